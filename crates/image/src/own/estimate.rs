//! What an image will take, before it is made.

use super::CHUNK;
use super::make::runs;
use badger_drive::buffer::is_zero;
use badger_drive::{Control, Extents, Holds, Source};
use std::ops::Range;
use std::time::Duration;

/// What an image will take, told by a sample.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Estimate {
    /// Bytes that are read.
    pub read: u64,
    /// Bytes of the image.
    pub stored: u64,
    /// Seconds that reading takes, on the drive's own clock.
    pub seconds: f64,
}

/// Places that the sample looks at, and bytes of each.
const SAMPLES: u64 = 48;
const SAMPLE: u64 = 8 * CHUNK;
/// A slow drive is asked for so many, and no more after so long on its own clock.
const LEAST_SAMPLES: u64 = 6;
const LONGEST_SAMPLE: Duration = Duration::from_secs(3);
/// Stretches that are told apart before the sample; what lies behind the last of them counts as bytes.
const MOST_STRETCHES: usize = 1 << 16;

/// What of it holds bytes, as far as that is known without reading.
fn solid(source: &Source, all: &[Range<u64>], control: &Control) -> Vec<Range<u64>> {
    if source.clock().is_some() {
        // There even that takes the drive's time.
        return all.to_vec();
    }
    let (mut out, mut asked) = (Vec::<Range<u64>>::new(), 0);
    for run in all {
        let mut at = run.start;
        while at < run.end {
            asked += 1;
            let known = if asked > MOST_STRETCHES || control.is_stopped() { None } else { Some(source.stretch(at, run.end - at)) };
            let len = known.map_or(run.end - at, |known| known.len.clamp(1, run.end - at));
            if known.is_none_or(|known| known.holds == Holds::Bytes) {
                out.push(at..at + len);
            }
            at += len;
        }
    }
    out
}

/// Reads a little of everything that is needed, and tells what an image of it will take. What is known to be zero takes nothing.
///
/// # Errors
/// Why the drive gives nothing.
pub fn estimate(source: &Source, needed: &Extents<()>, control: &Control) -> std::io::Result<Estimate> {
    let began = std::time::Instant::now();
    let size = source.geometry().size_bytes;
    let all = runs(needed, 0, size);
    let length = |runs: &[Range<u64>]| runs.iter().map(|run| run.end - run.start).sum::<u64>();
    let read = length(&all);
    let all = solid(source, &all, control);
    let data = length(&all);
    let step = (data / SAMPLES).max(SAMPLE);
    // Spread from the first place on, so that ending early leaves no part out.
    let mut places: Vec<u64> = (0..data.div_ceil(step)).collect();
    places.sort_by_key(|place| (*place as u8).reverse_bits());
    let now = || source.clock().map_or_else(|| began.elapsed(), |clock| clock.now());
    let start = now();
    let (mut seen, mut zero, mut looked, mut stored, mut took, mut buf) = (0u64, 0u64, 0u64, 0u64, Duration::ZERO, vec![0; SAMPLE as usize]);
    for place in places {
        if control.is_stopped() || seen >= LEAST_SAMPLES && now().saturating_sub(start) > LONGEST_SAMPLE {
            break;
        }
        let Some(at) = place_of(&all, place * step) else { break };
        let len = SAMPLE.min(size - at);
        seen += 1;
        if source.zero_run(at, len) >= len {
            zero += 1;
            continue;
        }
        let (before, bytes) = (now(), &mut buf[..len as usize]);
        if source.read_at(at, bytes).is_ok() {
            took += now().saturating_sub(before);
            looked += len;
            stored += bytes.chunks(CHUNK as usize).map(|chunk| if is_zero(chunk) { 0 } else { packed_len(chunk) }).sum::<u64>();
        }
    }
    let data = data as f64 * (1.0 - zero as f64 / seen.max(1) as f64);
    let share = |of: f64| if looked == 0 { 0.0 } else { of / looked as f64 };
    Ok(Estimate { read, stored: (share(stored as f64) * data) as u64, seconds: share(took.as_secs_f64()) * data })
}

/// The byte of the drive that is so far within the runs.
fn place_of(runs: &[Range<u64>], mut within: u64) -> Option<u64> {
    for run in runs {
        let len = run.end - run.start;
        if within < len {
            return Some(run.start + within);
        }
        within -= len;
    }
    None
}

fn packed_len(chunk: &[u8]) -> u64 {
    zstd::bulk::compress(chunk, 3).map_or(chunk.len(), |packed| packed.len().min(chunk.len())) as u64 + 64
}
