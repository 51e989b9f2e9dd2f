//! Proof of volumes that were shown anew: their own structures, and the space that was promised.

use crate::copy::Context;
use badger_drive::size::human;
use badger_inspect::volumes::{self, Surveyed};
use badger_inspect::{Line, Verdict};

/// One line for each volume that has another size or place by now.
pub fn prove(context: &Context) -> Vec<Line> {
    context.plan.recasts.iter().map(|recast| prove_volume(context, recast)).collect()
}

fn prove_volume(context: &Context, recast: &badger_layout::plan::Recast) -> Line {
    let drive = context.target_source();
    let number = context.plan.number_after(recast.number);
    let Some(volume) = badger_fs::recognise(&*drive, recast.to, recast.len) else {
        return Line::new("file-system", Verdict::Fails, format!("partition {number}: its file system is not recognised any more"));
    };
    let name = volumes::name(number, &volume);
    let fs = match badger_fs::open(&drive, recast.to, recast.len) {
        Ok(fs) => fs,
        Err(finding) => return Line::new("file-system", Verdict::Fails, format!("{name}: {}", finding.text)),
    };
    let survey = fs.survey();
    let free = volume.size_bytes.saturating_sub(survey.used());
    let promised = recast.len.saturating_sub(recast.used);
    let surveyed = Surveyed { number, start: recast.to, len: recast.len, volume, walked: Some((fs, survey)) };
    let mut line = volumes::line(&surveyed, u64::from(context.plan.target.sector));
    let change = match recast.len.cmp(&recast.from_len) {
        std::cmp::Ordering::Less => format!("squeezed from {} to {}", human(recast.from_len), human(recast.len)),
        std::cmp::Ordering::Greater => format!("stretched from {} to {}", human(recast.from_len), human(recast.len)),
        std::cmp::Ordering::Equal => "set right for its new place".into(),
    };
    line.evidence.insert(0, format!("{change}, {} free; {} lie elsewhere in it than they did", human(free), human(context.image.moved(recast.to))));
    // Lists of where files lie grow where files are divided; a hundredth is more than they take.
    if free + recast.len / 100 + (1 << 20) < promised {
        line.result = Verdict::Fails;
        line.text = format!("{name}: {} are free where {} were promised", human(free), human(promised));
    }
    line
}
