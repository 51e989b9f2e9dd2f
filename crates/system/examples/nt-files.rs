//! Lays the files of a made-up system of the NT family into a folder, for the sample workshop: `nt-files FOLDER DISK PARTITION`, both identifiers of a
//! GPT. What belongs to the system's volume comes below `system`, what belongs to the system partition below `firmware`.

#[path = "../tests/support/nt.rs"]
mod nt;

use badger_layout::Guid;
use badger_system::store::Device;
use std::path::Path;

fn main() -> std::io::Result<()> {
    let given: Vec<String> = std::env::args().skip(1).collect();
    let [folder, disk, partition] = &given[..] else { return Err(std::io::Error::other("usage: nt-files FOLDER DISK PARTITION")) };
    let id = |text: &str| Guid::parse(text).ok_or_else(|| std::io::Error::other(format!("{text} is no identifier")));
    let own = Device::Gpt(id(disk)?, id(partition)?);
    let all = [("system", nt::system(nt::settings(own))), ("firmware/EFI", nt::firmware(nt::store(own, true)))];
    for (below, files) in all {
        for (name, bytes) in files {
            let path = Path::new(folder).join(below).join(name);
            std::fs::create_dir_all(path.parent().expect("it has a folder"))?;
            std::fs::write(path, bytes)?;
        }
    }
    Ok(())
}
