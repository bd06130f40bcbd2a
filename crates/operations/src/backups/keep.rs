//! Which backups stay: so many of the newest, and the newest of so many days, weeks and months; the newest good one of a
//! device always.

use std::collections::BTreeMap;

use records::backups::Backup;
use time::{Date, OffsetDateTime};

use super::health;

/// What counts of a backup when it is decided whether it stays.
#[derive(Clone, Debug)]
pub struct Kept<'a> {
    /// Its name.
    pub name: &'a str,
    /// When it was taken.
    pub taken_at: OffsetDateTime,
    /// The day of that in the team's time zone.
    pub day: Date,
    /// Whether it stays in any case.
    pub pinned: bool,
    /// Whether a device may be expected to come back from it.
    pub good: bool,
    /// Whether something speaks against it: it is damaged, or a restore test did not pass.
    pub harmed: bool,
}

impl<'a> Kept<'a> {
    /// A backup as it is recorded, which was taken on this day.
    pub fn of(row: &'a Backup, day: Date) -> Self {
        Self {
            name: &row.name,
            taken_at: row.taken_at,
            day,
            pinned: row.pinned,
            good: health::of(row).is_good(),
            harmed: health::of(row).words.is_some(),
        }
    }
}

/// The Monday of a day's week.
fn week_of(day: Date) -> Date {
    let behind = i64::from(day.weekday().number_days_from_monday());
    day.saturating_sub(time::Duration::days(behind))
}

/// Why each backup of one device stays, those that do, in the order in which they are given. Without a rule all stay.
pub fn stay(all: &[Kept<'_>], rule: Option<&api::KeepRule>) -> Vec<Option<&'static str>> {
    let mut why: Vec<Option<&'static str>> = vec![None; all.len()];
    let mut newest_first: Vec<usize> = (0..all.len()).collect();
    newest_first.sort_by_key(|at| std::cmp::Reverse(all[*at].taken_at));
    let mut keep = |at: usize, reason| {
        if why[at].is_none() {
            why[at] = Some(reason);
        }
    };
    let Some(rule) = rule else {
        return vec![Some("no rule"); all.len()];
    };
    for at in newest_first.iter().take(rule.newest as usize) {
        keep(*at, "newest");
    }
    // The newest of a stretch stands for it.
    let mut of_stretches = |count: u32, reason, stretch: fn(Date) -> Date| {
        let mut seen: BTreeMap<Date, usize> = BTreeMap::new();
        for at in &newest_first {
            seen.entry(stretch(all[*at].day)).or_insert(*at);
        }
        for (_, at) in seen.iter().rev().take(count as usize) {
            keep(*at, reason);
        }
    };
    of_stretches(rule.daily, "day", |day| day);
    of_stretches(rule.weekly, "week", week_of);
    of_stretches(rule.monthly, "month", |day| {
        day.replace_day(1).unwrap_or(day)
    });
    for (at, one) in all.iter().enumerate() {
        if one.pinned {
            keep(at, "pinned");
        }
    }
    let newest_of = |wanted: fn(&Kept<'_>) -> bool| {
        let mut newest = newest_first.iter().copied();
        newest.find(|at| wanted(&all[*at]))
    };
    if let Some(good) = newest_of(|one| one.good) {
        keep(good, "last good");
    } else if let Some(unharmed) = newest_of(|one| !one.harmed) {
        keep(unharmed, "last unharmed");
    } else {
        // Any of them may be the one that is mended.
        (0..all.len()).for_each(|at| keep(at, "none is whole"));
    }
    why
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rule(newest: u32, daily: u32, weekly: u32, monthly: u32) -> api::KeepRule {
        api::KeepRule {
            newest,
            daily,
            weekly,
            monthly,
        }
    }

    fn backup(name: &str, hours_ago: i64) -> Kept<'_> {
        // A Saturday.
        let now = OffsetDateTime::from_unix_timestamp(1_795_867_200).unwrap();
        Kept {
            name,
            taken_at: now - time::Duration::hours(hours_ago),
            day: (now - time::Duration::hours(hours_ago)).date(),
            pinned: false,
            good: true,
            harmed: false,
        }
    }

    #[test]
    fn the_newest_of_each_stretch_stays() {
        let all = [
            backup("now", 0),
            backup("this morning", 6),
            backup("yesterday", 26),
            backup("last week", 7 * 24),
            backup("a month ago", 31 * 24),
            backup("long ago", 400 * 24),
        ];
        let why = stay(&all, Some(&rule(1, 2, 2, 2)));
        assert_eq!(
            why,
            [
                Some("newest"),
                None,
                Some("day"),
                Some("week"),
                Some("month"),
                None
            ]
        );
        assert!(stay(&all, None).iter().all(|why| *why == Some("no rule")));
    }

    #[test]
    fn what_is_pinned_and_the_last_good_one_never_go() {
        let mut all = [
            backup("new", 0),
            backup("good", 30),
            backup("old", 90),
            backup("kept", 200),
        ];
        all[0].good = false;
        all[3].pinned = true;
        let why = stay(&all, Some(&rule(1, 0, 0, 0)));
        assert_eq!(
            why,
            [Some("newest"), Some("last good"), None, Some("pinned")]
        );
    }

    #[test]
    fn where_none_is_whole_none_goes() {
        let mut all = [backup("new", 0), backup("older", 30), backup("old", 90)];
        for one in &mut all {
            (one.good, one.harmed) = (false, true);
        }
        let one = rule(1, 0, 0, 0);
        assert!(stay(&all, Some(&one)).iter().all(Option::is_some));
        // One that was never compared, and of which nothing bad is known, is better than they.
        all[2].harmed = false;
        let why = stay(&all, Some(&one));
        assert_eq!(why, [Some("newest"), None, Some("last unharmed")]);
    }

    proptest! {
        #[test]
        fn whatever_the_rule_what_must_stay_stays(
            ages in prop::collection::vec((0_i64..20_000, any::<bool>(), any::<bool>()), 1..60),
            numbers in (1_u32..5, 0_u32..8, 0_u32..5, 0_u32..5),
        ) {
            let all: Vec<Kept<'_>> = ages
                .iter()
                .map(|(age, good, pinned)| Kept { good: *good, pinned: *pinned, ..backup("x", *age) })
                .collect();
            let (newest, daily, weekly, monthly) = numbers;
            let why = stay(&all, Some(&rule(newest, daily, weekly, monthly)));
            let stays = why.iter().filter(|why| why.is_some()).count();
            // A good one is among them, if there is any, and the pinned ones, and the newest.
            let good_stays = all.iter().zip(&why).any(|(one, why)| one.good && why.is_some());
            prop_assert_eq!(good_stays, all.iter().any(|one| one.good));
            prop_assert!(all.iter().zip(&why).all(|(one, why)| !one.pinned || why.is_some()));
            let newest_at = all.iter().map(|one| one.taken_at).max().unwrap();
            prop_assert!(all.iter().zip(&why).any(|(one, why)| one.taken_at == newest_at && why.is_some()));
            // No more than the rule says beside those.
            let pinned = all.iter().filter(|one| one.pinned).count();
            prop_assert!(stays <= (newest + daily + weekly + monthly) as usize + pinned + 1);
            // To do it twice takes nothing more.
            let left: Vec<Kept<'_>> = all.iter().zip(&why).filter(|(_, why)| why.is_some()).map(|(one, _)| one.clone()).collect();
            prop_assert!(stay(&left, Some(&rule(newest, daily, weekly, monthly))).iter().all(Option::is_some));
        }
    }
}
