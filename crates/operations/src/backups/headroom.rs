//! How the used data of a device grows over its backups, and when its card will be full.

use api::words::size;
use records::backups::Backup;
use time::{Duration, OffsetDateTime};

/// A card that will be full sooner than this needs a word.
const SOON: Duration = Duration::days(90);
/// A card that is fuller than so many hundredths, likewise.
const NEARLY_FULL: u64 = 90;

/// The line through points that misses them least: what it is at the first, and how much it grows a second.
fn line(points: &[(f64, f64)]) -> Option<(f64, f64)> {
    let count = points.len() as f64;
    let mean = |of: fn(&(f64, f64)) -> f64| points.iter().map(of).sum::<f64>() / count;
    let (middle, level) = (mean(|point| point.0), mean(|point| point.1));
    let spread: f64 = points.iter().map(|point| (point.0 - middle).powi(2)).sum();
    if points.len() < 2 || spread <= 0.0 {
        return None;
    }
    let together: f64 = points
        .iter()
        .map(|point| (point.0 - middle) * (point.1 - level))
        .sum();
    let growth = together / spread;
    Some((level - growth * middle, growth))
}

/// What there is to say of the backups of one device. `advised` is the card that its sheet advises, in bytes.
pub fn headroom_of(backups: &[Backup], advised: Option<u64>) -> api::Headroom {
    let mut points: Vec<_> = backups
        .iter()
        .map(|backup| api::HeadroomPoint {
            at: backup.taken_at,
            used: backup.content as u64,
            card_size: backup.card_size as u64,
        })
        .collect();
    points.sort_by_key(|point| point.at);
    told(points, advised, OffsetDateTime::now_utc())
}

fn told(
    points: Vec<api::HeadroomPoint>,
    advised: Option<u64>,
    now: OffsetDateTime,
) -> api::Headroom {
    let mut found = api::Headroom::default();
    let Some(last) = points.last() else {
        return found;
    };
    let first = points[0].at;
    let along: Vec<(f64, f64)> = points
        .iter()
        .map(|point| ((point.at - first).as_seconds_f64(), point.used as f64))
        .collect();
    // A day of backups says nothing of a year.
    let long_enough = last.at - first >= Duration::days(2);
    if let Some((at_first, growth)) =
        line(&along).filter(|(_, growth)| long_enough && *growth > 0.0)
    {
        let seconds = (last.card_size as f64 - at_first) / growth;
        if seconds.is_finite() && seconds < 3e9 {
            let full = first + Duration::seconds_f64(seconds.max(0.0));
            if full - now < SOON {
                found.warnings.push(format!(
                    "if it goes on so, the card is full on {}; put a larger one in",
                    full.date()
                ));
            }
            found.full_at = Some(full);
        }
    }
    let full = last.used.saturating_mul(100) / last.card_size.max(1);
    if full >= NEARLY_FULL {
        found.warnings.push(format!(
            "{full} % of the card are in use; put a larger one in"
        ));
    }
    if let Some(advised) = advised.filter(|advised| last.card_size < *advised / 100 * 92) {
        found.warnings.push(format!(
            "the card holds {}, and its sheet advises {}",
            size(last.card_size),
            size(advised)
        ));
    }
    found.points = points;
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn points(all: &[(i64, u64)]) -> (Vec<api::HeadroomPoint>, OffsetDateTime) {
        let now = OffsetDateTime::from_unix_timestamp(1_796_040_000).unwrap();
        let told = all.iter().map(|(days_ago, used)| api::HeadroomPoint {
            at: now - Duration::days(*days_ago),
            used: *used,
            card_size: 1000,
        });
        (told.collect(), now)
    }

    #[test]
    fn a_card_that_fills_is_said_before_it_is_full() {
        let (all, now) = points(&[(40, 100), (30, 200), (20, 300), (10, 400), (0, 500)]);
        let found = told(all, None, now);
        assert_eq!(found.full_at.unwrap(), now + Duration::days(50));
        assert_eq!(found.warnings.len(), 1, "{:?}", found.warnings);
        let (all, now) = points(&[(100, 100), (0, 110)]);
        let found = told(all, None, now);
        assert!(found.warnings.is_empty() && found.full_at.unwrap() > now + Duration::days(3000));
    }

    #[test]
    fn what_shrinks_or_says_nothing_is_never_full() {
        for all in [
            &[(9, 500), (0, 400)][..],
            &[(0, 100)],
            &[(0, 100), (0, 900)],
            &[(9, 300), (0, 300)],
            &[],
        ] {
            let (all, now) = points(all);
            assert_eq!(told(all, None, now).full_at, None);
        }
        let (all, now) = points(&[(1, 950)]);
        assert_eq!(
            told(all, Some(2000), now).warnings.len(),
            2,
            "nearly full, and smaller than advised"
        );
    }
}
