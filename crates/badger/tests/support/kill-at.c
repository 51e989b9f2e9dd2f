/* Runs a program and kills it, with all its threads, as it comes to its Nth call that makes something durable or gives, takes or changes a
   name or a length; with "write", also to calls that write. Usage: kill-at flush|write N COUNT-FILE PROGRAM [ARGS]. N = 0 kills nothing.
   COUNT-FILE gets the number of such calls that were met. Exit code: the program's, or 137 where it was killed.

   With DURABLE=FOLDER it also keeps what a disk would hold if the power failed: the contents of each file below DURABLE_ROOT as of its
   last flush (FOLDER/f-ID), and the names in each folder as of the folder's last flush (FOLDER/d-ID, lines of ID and NAME). ID is the inode
   with the time of its birth, so an inode that is used again counts as another file. */
#define _GNU_SOURCE
#include <dirent.h>
#include <fcntl.h>
#include <ftw.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ptrace.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

static const char *durable;

static int id_of(int at, const char *name, int flags, char *id, size_t room, mode_t *mode) {
  struct statx st;
  if (statx(at, name, flags, STATX_BASIC_STATS | STATX_BTIME, &st)) return -1;
  snprintf(id, room, "%llu-%lld.%u", (unsigned long long)st.stx_ino, (long long)st.stx_btime.tv_sec, st.stx_btime.tv_nsec);
  *mode = st.stx_mode;
  return 0;
}

/* Keeps what is at a path, or behind a descriptor of the traced program, as it is now. */
static void keep(const char *path) {
  char id[80], name[4096], other[80];
  mode_t mode, unused;
  if (id_of(AT_FDCWD, path, 0, id, sizeof id, &mode)) return;
  if (S_ISREG(mode)) {
    static char buffer[1 << 20];
    snprintf(name, sizeof name, "%s/f-%s", durable, id);
    int from = open(path, O_RDONLY), to = open(name, O_WRONLY | O_CREAT | O_TRUNC, 0600);
    if (from < 0 || to < 0) exit(3);
    off_t at = 0;
    for (ssize_t len; (len = pread(from, buffer, sizeof buffer, at)) > 0; at += len) {
      int is_zero = !buffer[0] && !memcmp(buffer, buffer + 1, len - 1);
      if (!is_zero && pwrite(to, buffer, len, at) != len) exit(3);
    }
    if (ftruncate(to, at)) exit(3);
    close(from), close(to);
  } else if (S_ISDIR(mode)) {
    snprintf(name, sizeof name, "%s/d-%s", durable, id);
    DIR *dir = opendir(path);
    FILE *list = fopen(name, "w");
    if (!dir || !list) exit(3);
    for (struct dirent *entry; (entry = readdir(dir));)
      if (strcmp(entry->d_name, ".") && strcmp(entry->d_name, "..") &&
          !id_of(dirfd(dir), entry->d_name, AT_SYMLINK_NOFOLLOW, other, sizeof other, &unused))
        fprintf(list, "%s %s\n", other, entry->d_name);
    closedir(dir), fclose(list);
  }
}

static int keep_each(const char *path, const struct stat *st, int kind, struct FTW *place) {
  (void)st, (void)place;
  if (kind == FTW_F || kind == FTW_D) keep(path);
  return 0;
}

static void keep_all(void) { nftw(getenv("DURABLE_ROOT"), keep_each, 16, FTW_PHYS); }

/* A flush that is about to happen: what was written before it will be there. */
static void flushed(pid_t pid, const struct __ptrace_syscall_info *info) {
  char path[64];
  switch (info->entry.nr) {
  case SYS_fsync: case SYS_fdatasync:
    snprintf(path, sizeof path, "/proc/%d/fd/%d", pid, (int)info->entry.args[0]);
    keep(path);
    break;
  case SYS_syncfs: case SYS_sync:
    keep_all();
  }
}

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
  durable = getenv("DURABLE");
  if (durable) keep_all();
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
      if (ptrace(PTRACE_GET_SYSCALL_INFO, pid, sizeof info, &info) > 0 && info.op == PTRACE_SYSCALL_INFO_ENTRY) {
        if (is_point(&info, writes) && ++met == at) kill(child, SIGKILL);
        else if (durable && (!at || met < at)) flushed(pid, &info);
      }
    } else if (status >> 16 == 0 && WSTOPSIG(status) != SIGSTOP && WSTOPSIG(status) != SIGTRAP) {
      signal = WSTOPSIG(status);
    }
    ptrace(PTRACE_SYSCALL, pid, 0, signal);
  }
  FILE *count = fopen(argv[3], "w");
  if (!count || fprintf(count, "%ld\n", met) < 0 || fclose(count)) return 2;
  return code;
}
