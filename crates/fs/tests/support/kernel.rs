//! A virtual machine with a real kernel, a shell as its first program, and nothing else.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A kernel with its modules and the shell that runs in it, from packages; kept between runs.
fn kernel() -> PathBuf {
    let cache = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("kernel");
    if !cache.join("kernel").exists() {
        fs::create_dir_all(&cache).unwrap();
        let script = r#"
            set -e
            exec 9>lock; flock 9; [ ! -e kernel ] || exit 0
            rm -rf boot bin etc lib usr *.deb
            image() { apt-cache depends linux-image-amd64 | awk '/Depends: linux-image/ {print $2; exit}'; }
            [ -n "$(image)" ] || apt-get update -qq
            apt-get download -qq "$(image)" busybox-static >/dev/null 2>&1 || { apt-get update -qq; apt-get download -qq "$(image)" busybox-static; }
            for package in *.deb; do dpkg -x "$package" .; rm "$package"; done
            # An emulated machine takes five seconds to unpack it.
            image=$(ls boot/vmlinuz-*)
            number() { od -An -t "u$2" -j "$1" -N "$2" "$image" | tr -d ' '; }
            tail -c "+$(( ($(number 497 1) + 1) * 512 + $(number 584 4) + 1 ))" "$image" | head -c "$(number 588 4)" | xz -dc --single-stream > kernel.part
            mv kernel.part kernel"#;
        let out = Command::new("bash").args(["-c", script]).current_dir(&cache).output().unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    }
    cache
}

fn below(dir: &Path) -> PathBuf {
    fs::read_dir(dir).unwrap().next().unwrap().unwrap().path()
}

/// What its first program does in any case.
const BEGIN: &str = "#!/bin/busybox sh
/bin/busybox --install -s /bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev
for m in /mod/*.ko; do insmod $m; done
";

/// What the machine is made of.
pub struct Machine<'a> {
    /// Modules of the kernel, in the order in which they are taken.
    pub modules: &'a [&'a str],
    /// The script that its first program goes on with, once the modules are there.
    pub init: &'a str,
    /// Further files, and where they lie in it.
    pub files: &'a [(PathBuf, PathBuf)],
    /// Arguments that give it its disks.
    pub arguments: &'a [String],
    /// A word on the kernel's command line.
    pub job: &'a str,
}

impl Machine<'_> {
    /// Starts it and waits until it switches itself off; what was written on its console.
    pub fn run(&self, dir: &Path) -> String {
        let kernel = kernel();
        let root = dir.join("root");
        let _ = fs::remove_dir_all(&root);
        for name in ["bin", "dev", "proc", "sys", "mnt", "mod", "tmp"] {
            fs::create_dir_all(root.join(name)).unwrap();
        }
        fs::copy(kernel.join("bin/busybox"), root.join("bin/busybox")).unwrap();
        let modules = below(&kernel.join("lib/modules")).join("kernel");
        for (number, module) in self.modules.iter().enumerate() {
            let name = Path::new(module).file_name().unwrap().to_string_lossy().into_owned();
            fs::copy(modules.join(format!("{module}.ko")), root.join(format!("mod/{number:02}-{name}.ko")))
                .unwrap_or_else(|error| panic!("{module}: {error}"));
        }
        for (from, to) in self.files {
            let to = root.join(to.strip_prefix("/").unwrap_or(to));
            fs::create_dir_all(to.parent().unwrap()).unwrap();
            fs::copy(from, to).unwrap();
        }
        fs::write(root.join("init"), [BEGIN, self.init].concat()).unwrap();
        let archive = dir.join("root.cpio");
        let pack = format!("chmod +x {0}/init && cd {0} && find . | cpio -o -H newc > {1} 2>/dev/null", root.display(), archive.display());
        assert!(Command::new("bash").args(["-c", &pack]).status().unwrap().success());
        let mut command = Command::new("timeout");
        command
            .args(["1500", "qemu-system-x86_64", "-accel", "tcg", "-m", "512", "-nographic", "-no-reboot", "-kernel"])
            .arg(kernel.join("kernel"))
            .arg("-initrd");
        command.arg(archive).arg("-append").arg(format!("console=ttyS0 quiet panic=-1 no_timer_check job={}", self.job)).args(self.arguments);
        let out = command.output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned() + &String::from_utf8_lossy(&out.stderr)
    }
}
