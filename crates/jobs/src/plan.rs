//! The one way from two drives, what is known of their volumes, and what is asked for, to a plan.

use badger_drive::Refusal;
use badger_drive::Source;
use badger_inspect::volumes::{self, Surveyed};
use badger_inspect::{Hazard, Looked, hazard};
use badger_layout::fit::{self, Part};
use badger_layout::plan::{self, Draft, Ids, InUse, Patch, Rest, Side, Sparing};
use badger_layout::{Rules, rules::What};

/// The rest of the target where nothing is said of it.
pub(crate) const REST: Rest = Rest::Leave;

/// All that a plan is made of besides what is asked for.
pub(crate) struct Sources<'a> {
    pub source: &'a Source,
    pub looked: &'a Looked,
    /// The source's volumes, gone over; none for a clone of everything as it is.
    pub surveyed: &'a [Surveyed],
    /// What is known of every partition for a fit.
    pub parts: &'a [Part],
    /// Source and target.
    pub sides: (&'a Side, &'a Side),
}

/// What is asked for.
pub(crate) struct Asked<'a> {
    pub ids: Ids,
    /// Copy only what is in use.
    pub used: Option<Rest>,
    /// How the partitions are to fit the target.
    pub fit: Option<&'a Rules>,
}

fn random() -> [u8; 16] {
    let mut bytes = [0; 16];
    // The kernel's source of randomness does not run dry and does not fail once the machine is up.
    getrandom::fill(&mut bytes).expect("the system gives random bytes");
    bytes
}

/// Plans, and says what is to be known of volumes that are copied whole.
///
/// # Errors
/// A refusal that says what does not fit.
pub(crate) fn draft(of: &Sources, asked: &Asked) -> Result<(Draft, Vec<Hazard>), Refusal> {
    let (table, (here, there)) = (&of.looked.table, of.sides);
    let mut draft = match asked.fit {
        None => Draft::from(plan::exact(table, here, there, asked.ids, random)?),
        Some(rules) => fit::plan(table, of.parts, of.sides, asked.ids, rules, random)?,
    };
    if asked.fit.is_some() {
        promise_room(of, &mut draft);
        set_right(of, &mut draft);
    }
    let used = |volume: &Surveyed| volume.survey().map_or(volume.len, badger_fs::Survey::used);
    let in_use = |volume: &Surveyed| InUse { number: volume.number, start: volume.start, len: volume.len, used: used(volume) };
    let mut spared: Vec<InUse> = of.surveyed.iter().filter(|volume| draft.plan().recast(volume.number).is_some()).map(in_use).collect();
    let mut whole = Vec::new();
    if let Some(rest) = asked.used {
        let (needed, more) = volumes::needed(of.surveyed, here.size_bytes);
        let plan = draft.plan_mut();
        spared.extend(more.into_iter().filter(|one| !plan.left_out.contains(&one.number) && plan.recast(one.number).is_none()));
        spared.sort_by_key(|volume| volume.number);
        plan.spare(&needed, Sparing { volumes: spared, rest });
        whole = hazard::of_whole_volumes(of.surveyed);
    } else if !spared.is_empty() {
        draft.plan_mut().sparing = Some(Sparing { volumes: spared, rest: REST });
    }
    // Whoever wonders why a volume does not change is told.
    let changes = |rules: &Rules| rules.auto || rules.each.iter().any(|rule| rule.what != What::Out);
    if whole.is_empty() && asked.fit.is_some_and(changes) {
        whole = hazard::of_unchanging(of.looked, of.parts, draft.plan());
    }
    Ok((draft, whole))
}

/// How much of a volume with its new size is in use, its own tables included.
fn promise_room(of: &Sources, draft: &mut Draft) {
    for recast in &mut draft.plan_mut().recasts {
        let walked = of.surveyed.iter().find(|volume| volume.number == recast.number).and_then(|volume| volume.walked.as_ref());
        if let Some(Ok(room)) = walked.map(|(fs, survey)| fs.room(survey, recast.len, of.sides.1.sector)) {
            recast.used = recast.len.saturating_sub(room);
        }
    }
}

/// Lets volumes that are copied as they are say where they begin now.
fn set_right(of: &Sources, draft: &mut Draft) {
    let (plan, sector) = (draft.plan_mut(), of.sides.1.sector);
    for volume in of.surveyed {
        let place = plan.planned(volume.number).map(|planned| planned.place(sector));
        let Some((to, _)) = place.filter(|(to, _)| *to != volume.start && plan.recast(volume.number).is_none()) else { continue };
        let what = format!("first sector of {}", volumes::name(volume.number, &volume.volume));
        let bytes = badger_fs::placed(of.source, volume.start, volume.len, to / u64::from(sector));
        plan.patches.extend(bytes.into_iter().map(|(at, bytes)| Patch { at: to + at, bytes, what: what.clone() }));
    }
    plan.patches.sort_by_key(|patch| patch.at);
}
