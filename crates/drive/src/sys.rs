//! The one place of this crate with `unsafe`, with [`ring`] below it: requests to the kernel that have no safe wrapper.
//!
//! What holds it up: every pointer handed to the kernel is to a local value that outlives the call, of exactly the
//! type and size that the request's definition in the kernel's public headers (`linux/fs.h`, `linux/loop.h`, `linux/nvme_ioctl.h`,
//! `scsi/sg.h`) names.
#![allow(unsafe_code)]

pub mod ring;

use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;

const BLKRRPART: libc::c_ulong = 0x125f;
const BLKFLSBUF: libc::c_ulong = 0x1261;
const BLKDISCARD: libc::c_ulong = 0x1277;
const BLKZEROOUT: libc::c_ulong = 0x127f;
const BLKSSZGET: libc::c_ulong = 0x1268;
const BLKPBSZGET: libc::c_ulong = 0x127b;
const BLKGETSIZE64: libc::c_ulong = 0x8008_1272;
const BLKGETDISKSEQ: libc::c_ulong = 0x8008_1280;
const LOOP_GET_STATUS64: libc::c_ulong = 0x4c05;
const SG_IO: libc::c_ulong = 0x2285;
const NVME_IOCTL_ADMIN_CMD: libc::c_ulong = 0xc048_4e41;

fn checked(result: libc::c_int) -> io::Result<()> {
    if result < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// Has the kernel read the partition table of a block device again.
pub fn reread_table(device: &File) -> io::Result<()> {
    // SAFETY: this request takes no argument.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), BLKRRPART as _, 0) })
}

/// Writes out and forgets what the kernel holds of a block device.
pub fn flush_buffers(device: &File) -> io::Result<()> {
    // SAFETY: this request takes no argument.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), BLKFLSBUF as _, 0) })
}

/// Fills a stretch of a block device with zeroes; the device does it itself where it can.
pub fn zero_out(device: &File, offset: u64, len: u64) -> io::Result<()> {
    let range: [u64; 2] = [offset, len];
    // SAFETY: the request reads two u64 values from the array, which lives until the call returns.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), BLKZEROOUT as _, range.as_ptr()) })
}

/// Tells a block device that the content of a stretch is not wanted any more.
pub fn discard(device: &File, offset: u64, len: u64) -> io::Result<()> {
    let range: [u64; 2] = [offset, len];
    // SAFETY: the request reads two u64 values from the array, which lives until the call returns.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), BLKDISCARD as _, range.as_ptr()) })
}

/// Bytes of a block device, as the open device itself says.
pub fn device_bytes(device: &File) -> io::Result<u64> {
    let mut bytes = 0u64;
    // SAFETY: the request writes one u64 to the local, which outlives the call.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), BLKGETSIZE64 as _, &raw mut bytes) })?;
    Ok(bytes)
}

/// Logical and physical sector of a block device in bytes, as the open device itself says.
pub fn device_sectors(device: &File) -> io::Result<(u32, u32)> {
    let (mut logical, mut physical): (libc::c_int, libc::c_uint) = (0, 0);
    // SAFETY: the requests write one int each to the locals, which outlive the calls.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), BLKSSZGET as _, &raw mut logical) })?;
    checked(unsafe { libc::ioctl(device.as_raw_fd(), BLKPBSZGET as _, &raw mut physical) })?;
    Ok((logical as u32, physical))
}

/// The number the kernel gave this medium when it appeared.
pub fn device_sequence(device: &File) -> io::Result<u64> {
    let mut sequence = 0u64;
    // SAFETY: the request writes one u64 to the local, which outlives the call.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), BLKGETDISKSEQ as _, &raw mut sequence) })?;
    Ok(sequence)
}

/// `struct loop_info64` of `linux/loop.h`.
#[repr(C)]
struct LoopInfo {
    device: u64,
    inode: u64,
    rdevice: u64,
    offset: u64,
    sizelimit: u64,
    numbers: [u32; 4],
    names: [u8; 64 + 64 + 32],
    init: [u64; 2],
}

/// Device and inode of what a loop device holds.
pub fn loop_node(device: &File) -> io::Result<(u64, u64)> {
    let mut info = LoopInfo { device: 0, inode: 0, rdevice: 0, offset: 0, sizelimit: 0, numbers: [0; 4], names: [0; 160], init: [0; 2] };
    // SAFETY: the request fills the structure, which has the size and layout of the public header and outlives the call.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), LOOP_GET_STATUS64 as _, &raw mut info) })?;
    Ok((info.device, info.inode))
}

/// Locks `range` of a file against every other open file, of this program and of others; the lock ends with `file`.
/// False where another one holds a lock that does not go with it.
pub fn lock_range(file: &File, range: std::ops::Range<u64>, alone: bool) -> io::Result<bool> {
    const MOST: u64 = i64::MAX as u64;
    let start = range.start.min(MOST - 1);
    // SAFETY: a structure of plain numbers may be all zero.
    let mut lock: libc::flock = unsafe { std::mem::zeroed() };
    lock.l_type = if alone { libc::F_WRLCK } else { libc::F_RDLCK } as _;
    lock.l_whence = libc::SEEK_SET as _;
    lock.l_start = start as _;
    lock.l_len = (range.end.min(MOST) - start) as _;
    // SAFETY: the request reads the structure, which outlives the call.
    match checked(unsafe { libc::fcntl(file.as_raw_fd(), libc::F_OFD_SETLK, &raw const lock) }) {
        Ok(()) => Ok(true),
        Err(error) if matches!(error.raw_os_error(), Some(libc::EAGAIN | libc::EACCES)) => Ok(false),
        Err(error) => Err(error),
    }
}

/// `struct sg_io_hdr` of `scsi/sg.h`.
#[repr(C)]
struct SgIo {
    interface_id: libc::c_int,
    dxfer_direction: libc::c_int,
    cmd_len: u8,
    mx_sb_len: u8,
    iovec_count: u16,
    dxfer_len: u32,
    dxferp: *mut u8,
    cmdp: *const u8,
    sbp: *mut u8,
    timeout: u32,
    flags: u32,
    pack_id: libc::c_int,
    usr_ptr: *mut libc::c_void,
    status: u8,
    masked_status: u8,
    msg_status: u8,
    sb_len_wr: u8,
    host_status: u16,
    driver_status: u16,
    resid: libc::c_int,
    duration: u32,
    info: u32,
}

/// What came back with a SCSI command.
pub struct Answer {
    /// SCSI status: 0 good, 2 with sense data.
    pub status: u8,
    /// Sense data.
    pub sense: [u8; 32],
}

/// So long a drive may take for an answer, in milliseconds.
const PATIENCE: u32 = 3000;

/// Sends a SCSI command of at most 16 bytes that reads `data`, or, where that is empty, moves none.
pub fn scsi(device: &File, command: &[u8], data: &mut [u8]) -> io::Result<Answer> {
    let mut sense = [0u8; 32];
    let length = u32::try_from(data.len()).map_err(io::Error::other)?;
    let mut request = SgIo {
        interface_id: libc::c_int::from(b'S'),
        // From the device, or nothing.
        dxfer_direction: if data.is_empty() { -1 } else { -3 },
        cmd_len: command.len().min(16) as u8,
        mx_sb_len: 32,
        iovec_count: 0,
        dxfer_len: length,
        dxferp: data.as_mut_ptr(),
        cmdp: command.as_ptr(),
        sbp: sense.as_mut_ptr(),
        timeout: PATIENCE,
        flags: 0,
        pack_id: 0,
        usr_ptr: std::ptr::null_mut(),
        status: 0,
        masked_status: 0,
        msg_status: 0,
        sb_len_wr: 0,
        host_status: 0,
        driver_status: 0,
        resid: 0,
        duration: 0,
        info: 0,
    };
    // SAFETY: the header and the three buffers it points to outlive the call; their lengths are given.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), SG_IO as _, &raw mut request) })?;
    if request.host_status != 0 || (request.status != 0 && request.status != 2) || (length > 0 && request.resid == length as libc::c_int) {
        return Err(io::Error::other("the adapter does not pass the question on"));
    }
    Ok(Answer { status: request.status, sense })
}

/// `struct nvme_admin_cmd` of `linux/nvme_ioctl.h`.
#[repr(C)]
#[derive(Default)]
struct NvmeCommand {
    opcode: u8,
    flags: u8,
    reserved: u16,
    namespace: u32,
    words_2_3: [u32; 2],
    metadata: u64,
    address: u64,
    metadata_len: u32,
    data_len: u32,
    words_10_15: [u32; 6],
    timeout_ms: u32,
    result: u32,
}

/// Asks the controller of an NVMe device for 512 bytes of a log page (Get Log Page, all namespaces).
pub fn nvme_log(device: &File, page: u8) -> io::Result<[u8; 512]> {
    let mut data = [0u8; 512];
    let dwords = data.len() as u32 / 4 - 1;
    let mut command = NvmeCommand {
        opcode: 2,
        namespace: u32::MAX,
        address: data.as_mut_ptr() as u64,
        data_len: data.len() as u32,
        words_10_15: [dwords << 16 | u32::from(page), 0, 0, 0, 0, 0],
        timeout_ms: PATIENCE,
        ..NvmeCommand::default()
    };
    // SAFETY: the request fills the buffer whose address and length the structure names; both outlive the call.
    let status = unsafe { libc::ioctl(device.as_raw_fd(), NVME_IOCTL_ADMIN_CMD as _, &raw mut command) };
    checked(status)?;
    if status > 0 { Err(io::Error::other(format!("the controller answers with status {status:#x}"))) } else { Ok(data) }
}
