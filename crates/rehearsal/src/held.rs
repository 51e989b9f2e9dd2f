//! How long this bench let the machine wait for a processor. A bench that copies, checks and compresses beside it holds it up for minutes, and
//! a screen that stood still meanwhile says nothing about the drive.

use std::collections::HashMap;
use std::fs;
use std::time::Duration;

/// The threads of one process, and how long each has waited while it could have run: the second number of `/proc/PID/task/TID/schedstat`
/// (Linux, `Documentation/scheduler/sched-stats.rst`), in nanoseconds.
pub(crate) struct Held {
    process: u32,
    waited: HashMap<u32, u64>,
}

impl Held {
    /// Of this process, from its start.
    pub fn of(process: u32) -> Self {
        Self { process, waited: HashMap::new() }
    }

    /// How long the thread that waited longest has waited since it was last asked. A kernel that keeps no such numbers says nothing, and nothing
    /// is taken off.
    pub fn since(&mut self) -> Duration {
        let mut most = 0;
        for task in fs::read_dir(format!("/proc/{}/task", self.process)).into_iter().flatten().flatten() {
            let Some(id) = task.file_name().to_str().and_then(|name| name.parse().ok()) else { continue };
            let told = fs::read_to_string(task.path().join("schedstat")).unwrap_or_default();
            let Some(now) = told.split_whitespace().nth(1).and_then(|word| word.parse::<u64>().ok()) else { continue };
            let before = self.waited.insert(id, now).unwrap_or(0);
            most = most.max(now.saturating_sub(before));
        }
        Duration::from_nanos(most)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::{Child, Command};
    use std::time::Instant;

    struct Running(Child);

    impl Drop for Running {
        fn drop(&mut self) {
            let _ = self.0.kill();
            let _ = self.0.wait();
        }
    }

    fn spawned(words: &[&str]) -> Running {
        Running(Command::new(words[0]).args(&words[1..]).spawn().unwrap())
    }

    /// What has nothing to do waits for nobody; what is kept from the processors does, and one second of waiting is said as one.
    #[test]
    fn only_waiting_for_a_processor_is_being_held_up() {
        let busy = ["sh", "-c", "while :; do :; done"];
        let processors = std::thread::available_parallelism().unwrap().get();
        let idle = spawned(&["sleep", "60"]);
        let _others: Vec<_> = (0..2 * processors).map(|_| spawned(&busy)).collect();
        let begun = Instant::now();
        let last = spawned(&["nice", "-n", "19", "sh", "-c", "while :; do :; done"]);
        let (mut of_idle, mut of_last, mut held) = (Held::of(idle.0.id()), Held::of(last.0.id()), Duration::ZERO);
        while begun.elapsed() < Duration::from_secs(3) {
            std::thread::sleep(Duration::from_millis(200));
            held += of_last.since();
        }
        let lasted = begun.elapsed();
        assert!(held > lasted / 4 && held <= lasted + Duration::from_millis(500), "{held:?} of {lasted:?}");
        assert!(of_idle.since() < Duration::from_secs(1));
        assert_eq!(Held::of(u32::MAX).since(), Duration::ZERO);
    }
}
