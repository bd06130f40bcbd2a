//! How long to wait after wrong passwords: longer with each, never for good.

use std::time::Duration;

/// Seconds after which a wrong try is forgotten.
pub const FORGOTTEN: f64 = 3600.0;
/// Wrong tries that cost nothing: of one account, and of one address, which many people may share.
const FREE: i32 = 5;
const FREE_OF_ADDRESS: i32 = 30;
/// The longest wait.
const LONGEST: Duration = Duration::from_secs(60);

/// Where wrong tries are counted.
pub fn keys(name: &str, origin: &str) -> [String; 2] {
    [of_account(name), format!("address:{origin}")]
}

/// Where those of one account are counted.
pub fn of_account(name: &str) -> String {
    format!("account:{}", name.to_lowercase())
}

/// How long still to wait, after so many wrong tries, the last of which is so many seconds ago.
pub fn wait(wrong: i32, ago: f64, address: bool) -> Option<Duration> {
    let free = if address { FREE_OF_ADDRESS } else { FREE };
    if ago >= FORGOTTEN || wrong < free {
        return None;
    }
    let doubled = 1_u64 << (wrong - free).clamp(0, 10);
    let whole = Duration::from_secs(doubled).min(LONGEST);
    let rest = whole.as_secs_f64() - ago.max(0.0);
    (rest > 0.0).then(|| Duration::from_secs_f64(rest))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_grow_and_end() {
        assert_eq!(wait(FREE - 1, 0.0, false), None);
        assert_eq!(wait(FREE, 0.0, false), Some(Duration::from_secs(1)));
        assert_eq!(wait(FREE + 3, 2.0, false), Some(Duration::from_secs(6)));
        assert_eq!(wait(FREE, 0.0, true), None);
        for wrong in [FREE + 7, 1000, i32::MAX] {
            assert_eq!(wait(wrong, 0.0, false), Some(LONGEST));
            assert_eq!(wait(wrong, 60.0, false), None);
        }
        assert_eq!(wait(1000, -5.0, true), Some(LONGEST));
        assert_eq!(wait(1000, FORGOTTEN, false), None);
    }
}
