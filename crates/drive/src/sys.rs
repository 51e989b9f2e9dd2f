//! The one place of this crate with `unsafe`: requests to the kernel that have no safe wrapper.
//!
//! What holds it up: every pointer handed to the kernel is to a local value that outlives the call, of exactly the
//! type and size that the request's definition in the kernel's public headers (`linux/fs.h`, `scsi/sg.h`) names.
#![allow(unsafe_code)]

use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;

const BLKRRPART: libc::c_ulong = 0x125f;
const BLKFLSBUF: libc::c_ulong = 0x1261;
const BLKDISCARD: libc::c_ulong = 0x1277;
const BLKZEROOUT: libc::c_ulong = 0x127f;
const SG_IO: libc::c_ulong = 0x2285;

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

/// Asks the drive behind a SCSI device for its ATA identity (ATA PASS-THROUGH(16), IDENTIFY DEVICE): 512 bytes.
pub fn ata_identify(device: &File) -> io::Result<[u8; 512]> {
    let mut data = [0u8; 512];
    let mut sense = [0u8; 32];
    let mut command = [0u8; 16];
    command[0] = 0x85; // ATA PASS-THROUGH(16)
    command[1] = 4 << 1; // PIO data in
    command[2] = 0x0e; // from the device, in blocks, length in the sector count
    command[6] = 1;
    command[14] = 0xec; // IDENTIFY DEVICE
    let mut request = SgIo {
        interface_id: libc::c_int::from(b'S'),
        dxfer_direction: -3, // from the device
        cmd_len: 16,
        mx_sb_len: 32,
        iovec_count: 0,
        dxfer_len: 512,
        dxferp: data.as_mut_ptr(),
        cmdp: command.as_ptr(),
        sbp: sense.as_mut_ptr(),
        timeout: 3000,
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
    // SAFETY: the header and the three buffers it points to are locals that outlive the call; their lengths are given.
    checked(unsafe { libc::ioctl(device.as_raw_fd(), SG_IO as _, &raw mut request) })?;
    if request.host_status != 0 || (request.status != 0 && request.status != 2) || request.resid == 512 {
        return Err(io::Error::other("the adapter does not pass the question on"));
    }
    Ok(data)
}
