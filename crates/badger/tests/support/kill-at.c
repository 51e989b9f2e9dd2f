/* Runs a program and kills it, with all its threads, as it comes to its Nth call that makes something durable or gives, takes or changes a
   name or a length; with "write", also to calls that write. Usage: kill-at flush|write N COUNT-FILE PROGRAM [ARGS]. N = 0 kills nothing.
   COUNT-FILE gets the number of such calls that were met. Exit code: the program's, or 137 where it was killed. */
#define _GNU_SOURCE
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ptrace.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

static int is_point(const struct __ptrace_syscall_info *info, int writes) {
  switch (info->entry.nr) {
  case SYS_fsync: case SYS_fdatasync: case SYS_syncfs: case SYS_sync_file_range: case SYS_msync: case SYS_rename: case SYS_renameat:
  case SYS_renameat2: case SYS_unlink: case SYS_unlinkat: case SYS_link: case SYS_linkat: case SYS_ftruncate: case SYS_rmdir:
    return 1;
  case SYS_write: case SYS_writev:
    return writes && info->entry.args[0] > 2;
  case SYS_pwrite64: case SYS_pwritev: case SYS_pwritev2: case SYS_io_uring_enter: case SYS_fallocate:
    return writes;
  default:
    return 0;
  }
}

int main(int argc, char **argv) {
  if (argc < 5) return 2;
  int writes = !strcmp(argv[1], "write"), code = 137;
  long at = atol(argv[2]), met = 0;
  pid_t child = fork();
  if (child == 0) {
    ptrace(PTRACE_TRACEME, 0, 0, 0);
    raise(SIGSTOP);
    execvp(argv[4], argv + 4);
    _exit(127);
  }
  int status;
  if (waitpid(child, &status, 0) != child) return 2;
  ptrace(PTRACE_SETOPTIONS, child, 0,
         PTRACE_O_TRACESYSGOOD | PTRACE_O_TRACECLONE | PTRACE_O_TRACEFORK | PTRACE_O_TRACEVFORK | PTRACE_O_TRACEEXEC | PTRACE_O_EXITKILL);
  ptrace(PTRACE_SYSCALL, child, 0, 0);
  for (pid_t pid; (pid = waitpid(-1, &status, __WALL)) > 0;) {
    if (WIFEXITED(status) || WIFSIGNALED(status)) {
      if (pid != child) continue;
      if (WIFEXITED(status)) code = WEXITSTATUS(status);
      break;
    }
    long signal = 0;
    if (WSTOPSIG(status) == (SIGTRAP | 0x80)) {
      struct __ptrace_syscall_info info;
      if (ptrace(PTRACE_GET_SYSCALL_INFO, pid, sizeof info, &info) > 0 && info.op == PTRACE_SYSCALL_INFO_ENTRY && is_point(&info, writes) &&
          ++met == at)
        kill(child, SIGKILL);
    } else if (status >> 16 == 0 && WSTOPSIG(status) != SIGSTOP && WSTOPSIG(status) != SIGTRAP) {
      signal = WSTOPSIG(status);
    }
    ptrace(PTRACE_SYSCALL, pid, 0, signal);
  }
  FILE *count = fopen(argv[3], "w");
  if (!count || fprintf(count, "%ld\n", met) < 0 || fclose(count)) return 2;
  return code;
}
