//! What every way of finding boards must do, run against each of them.

use std::time::{Duration, Instant};

use crate::locate::{Locator, Sighting, Sought};

/// Puts a board where the way under test can find it, and takes it away.
pub trait Hands {
    /// Switches a board on; gives what is looked for to find it.
    fn appear(&mut self) -> Sought;
    /// Switches it off.
    fn vanish(&mut self);
    /// What is never there.
    fn nobody(&self) -> Sought;
}

async fn until(
    locator: &dyn Locator,
    sought: &[Sought],
    what: &str,
    is: impl Fn(&[Vec<Sighting>]) -> bool,
) -> Vec<Vec<Sighting>> {
    let begun = Instant::now();
    loop {
        let found = locator
            .find(sought)
            .await
            .unwrap_or_else(|e| panic!("{what}: {e}"));
        assert_eq!(
            found.len(),
            sought.len(),
            "{what}: one answer each, in order"
        );
        if is(&found) {
            return found;
        }
        assert!(
            begun.elapsed() < Duration::from_secs(20),
            "{what}: {found:?}"
        );
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Runs the suite. Panics where the promise of [`Locator`] is broken.
pub async fn locates(locator: &dyn Locator, hands: &mut dyn Hands) {
    let nothing = locator.find(&[]).await.expect("nobody is sought");
    assert!(nothing.is_empty());
    let nobody = hands.nobody();
    let ours = hands.appear();
    let sought = [nobody.clone(), ours.clone(), nobody.clone(), ours.clone()];
    let found = until(locator, &sought, "it is on", |found| {
        found[1].len() == 1 && found[3].len() == 1
    })
    .await;
    assert_eq!(found[1], found[3], "asked twice, one board");
    assert!(found[0].is_empty() && found[2].is_empty(), "{found:?}");
    // Somebody else being sought first changes nothing.
    let swapped = until(
        locator,
        &[ours.clone(), nobody],
        "the other way round",
        |found| !found[0].is_empty(),
    )
    .await;
    assert_eq!(swapped[0], found[1]);
    let begun = Instant::now();
    locator
        .find(&vec![ours.clone(); 200])
        .await
        .expect("two hundred at once");
    assert!(
        begun.elapsed() < Duration::from_secs(10),
        "{:?}",
        begun.elapsed()
    );
    hands.vanish();
    until(locator, std::slice::from_ref(&ours), "it is off", |found| {
        found[0].is_empty()
    })
    .await;
    hands.appear();
    until(locator, &[ours], "it is on again", |found| {
        found[0].len() == 1
    })
    .await;
}
