//! Numbers of the NBD protocol, as in the NBD project's `doc/proto.md`: fixed newstyle, structured replies, block status. All
//! numbers go most significant byte first.

/// What a server says first.
pub const GREETING: u64 = 0x4e42_444d_4147_4943;
/// What begins options, and the answer to the greeting.
pub const OPTION: u64 = 0x4948_4156_454f_5054;
/// What begins the answer to an option.
pub const OPTION_REPLY: u64 = 0x0003_e889_0455_65a9;
/// What begins a request.
pub const REQUEST: u32 = 0x2560_9513;
/// What begins a simple reply.
pub const SIMPLE: u32 = 0x6744_6698;
/// What begins a chunk of a structured reply.
pub const CHUNK: u32 = 0x668e_33ef;

/// Flags of the greeting, and of its answer.
pub mod hello {
    /// Options are answered, whatever they are.
    pub const FIXED_NEWSTYLE: u16 = 1;
    /// No zeroes behind the answer to the old option.
    pub const NO_ZEROES: u16 = 2;
}

/// Options.
pub mod option {
    /// The old way to choose.
    pub const EXPORT_NAME: u32 = 1;
    /// Ends it.
    pub const ABORT: u32 = 2;
    /// Which drives there are.
    pub const LIST: u32 = 3;
    /// From now on enciphered.
    pub const STARTTLS: u32 = 5;
    /// What a drive is.
    pub const INFO: u32 = 6;
    /// Chooses a drive.
    pub const GO: u32 = 7;
    /// Replies in chunks.
    pub const STRUCTURED_REPLY: u32 = 8;
    /// Which kinds of status there are.
    pub const LIST_META_CONTEXT: u32 = 9;
    /// Chooses kinds of status.
    pub const SET_META_CONTEXT: u32 = 10;
}

/// Answers to options.
pub mod reply {
    /// Done.
    pub const ACK: u32 = 1;
    /// A drive.
    pub const SERVER: u32 = 2;
    /// Something about a drive.
    pub const INFO: u32 = 3;
    /// A kind of status.
    pub const META_CONTEXT: u32 = 4;
    /// All that says no has this bit.
    pub const ERROR: u32 = 1 << 31;
    /// Not known.
    pub const UNSUPPORTED: u32 = ERROR | 1;
    /// Not allowed.
    pub const POLICY: u32 = ERROR | 2;
    /// Not understood.
    pub const INVALID: u32 = ERROR | 3;
    /// Enciphered only.
    pub const TLS_REQUIRED: u32 = ERROR | 5;
    /// No such drive.
    pub const UNKNOWN: u32 = ERROR | 6;
}

/// What there is to know about a drive.
pub mod info {
    /// Size and flags.
    pub const EXPORT: u16 = 0;
    /// In words.
    pub const DESCRIPTION: u16 = 2;
    /// Least, best and most bytes of a request.
    pub const BLOCK_SIZE: u16 = 3;
}

/// What a drive can do.
pub mod flag {
    /// Flags are there.
    pub const HAS_FLAGS: u16 = 1;
    /// Not written to.
    pub const READ_ONLY: u16 = 2;
    /// Knows flush.
    pub const FLUSH: u16 = 4;
    /// Knows writes that are durable when they end.
    pub const FUA: u16 = 8;
    /// Has turning platters.
    pub const ROTATIONAL: u16 = 16;
    /// Knows trim.
    pub const TRIM: u16 = 32;
    /// Knows how to write zeroes.
    pub const WRITE_ZEROES: u16 = 64;
    /// Knows reads in one chunk.
    pub const DF: u16 = 128;
    /// Several connections see the same.
    pub const MULTI_CONN: u16 = 256;
}

/// What is asked for.
pub mod command {
    /// Bytes.
    pub const READ: u16 = 0;
    /// Takes bytes.
    pub const WRITE: u16 = 1;
    /// The end.
    pub const DISCONNECT: u16 = 2;
    /// Makes durable.
    pub const FLUSH: u16 = 3;
    /// Not wanted any more.
    pub const TRIM: u16 = 4;
    /// Zeroes.
    pub const WRITE_ZEROES: u16 = 6;
    /// What is known without reading.
    pub const BLOCK_STATUS: u16 = 7;
}

/// Flags of a command.
pub mod how {
    /// Durable when it ends.
    pub const FUA: u16 = 1;
    /// One stretch is enough.
    pub const REQ_ONE: u16 = 8;
}

/// Kinds of chunks.
pub mod chunk {
    /// Nothing follows for this request; a flag, not a kind.
    pub const DONE: u16 = 1;
    /// No content.
    pub const NONE: u16 = 0;
    /// Bytes of the drive.
    pub const DATA: u16 = 1;
    /// Zeroes of the drive.
    pub const HOLE: u16 = 2;
    /// Stretches of one kind of status.
    pub const BLOCK_STATUS: u16 = 5;
    /// All kinds that say no have this bit.
    pub const ERROR: u16 = 1 << 15;
    /// It failed.
    pub const FAILED: u16 = ERROR | 1;
    /// It failed at a place.
    pub const FAILED_AT: u16 = ERROR | 2;
}

/// Why something was not done.
pub mod errno {
    /// Not allowed.
    pub const PERM: u32 = 1;
    /// Could not be read or written.
    pub const IO: u32 = 5;
    /// Not understood.
    pub const INVAL: u32 = 22;
    /// No room.
    pub const NOSPC: u32 = 28;
    /// Not known.
    pub const NOTSUP: u32 = 95;
    /// The server ends.
    pub const SHUTDOWN: u32 = 108;
}

/// The status of every server: holes and zeroes.
pub const ALLOCATION: &str = "base:allocation";
/// Of [`ALLOCATION`]: reads as zero.
pub const ZERO: u32 = 2;
/// Of [`ALLOCATION`]: takes no room.
pub const HOLE: u32 = 1;
/// Our own: what nobody could read from the drive that an image was made of.
pub const KNOWN: &str = "zealous-badger:known";
/// Of [`KNOWN`]: what is there is not known, and a read fails.
pub const UNKNOWN: u32 = 1;

/// Bytes of the longest request that is made or answered. The protocol names this for whoever is told nothing else.
pub const LONGEST: u32 = 32 << 20;
/// Bytes of the longest name or text.
pub const TEXT: usize = 4096;

/// A number that a message begins with, taken off it.
pub fn take<const N: usize>(bytes: &mut &[u8]) -> Option<[u8; N]> {
    let (head, rest) = bytes.split_first_chunk::<N>()?;
    *bytes = rest;
    Some(*head)
}

/// The same of two bytes.
pub fn take_u16(bytes: &mut &[u8]) -> Option<u16> {
    take(bytes).map(u16::from_be_bytes)
}

/// The same of four bytes.
pub fn take_u32(bytes: &mut &[u8]) -> Option<u32> {
    take(bytes).map(u32::from_be_bytes)
}

/// The same of eight bytes.
pub fn take_u64(bytes: &mut &[u8]) -> Option<u64> {
    take(bytes).map(u64::from_be_bytes)
}

/// A text behind its length, taken off a message.
pub fn take_text(bytes: &mut &[u8]) -> Option<String> {
    let len = take_u32(bytes)? as usize;
    let (text, rest) = bytes.split_at_checked(len)?;
    *bytes = rest;
    String::from_utf8(text.to_vec()).ok()
}

/// A text behind its length.
pub fn put_text(out: &mut Vec<u8>, text: &str) {
    out.extend((text.len() as u32).to_be_bytes());
    out.extend(text.as_bytes());
}

/// A request, before what it brings along.
pub struct Request {
    /// See [`how`].
    pub flags: u16,
    /// See [`command`].
    pub command: u16,
    /// By which its answer is known.
    pub cookie: u64,
    /// First byte.
    pub offset: u64,
    /// Bytes.
    pub len: u32,
}

impl Request {
    /// Bytes of one.
    pub const LEN: usize = 28;

    /// As it goes over the wire.
    pub fn bytes(&self) -> [u8; Self::LEN] {
        let mut out = Vec::with_capacity(Self::LEN);
        out.extend(REQUEST.to_be_bytes());
        out.extend(self.flags.to_be_bytes());
        out.extend(self.command.to_be_bytes());
        out.extend(self.cookie.to_be_bytes());
        out.extend(self.offset.to_be_bytes());
        out.extend(self.len.to_be_bytes());
        out.try_into().expect("the parts make up the whole")
    }

    /// What came over the wire; `None` for what is no request.
    pub fn of(bytes: &[u8; Self::LEN]) -> Option<Self> {
        let mut rest = &bytes[..];
        (take_u32(&mut rest)? == REQUEST).then_some(())?;
        Some(Self {
            flags: take_u16(&mut rest)?,
            command: take_u16(&mut rest)?,
            cookie: take_u64(&mut rest)?,
            offset: take_u64(&mut rest)?,
            len: take_u32(&mut rest)?,
        })
    }
}
