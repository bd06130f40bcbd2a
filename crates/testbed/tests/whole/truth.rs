//! The records tell what is on a card, whatever happens: a model played at random against the real
//! service. `make stress` plays it for long; MODEL_SEED plays one seed again.

use testbed::model::Model;

#[tokio::test(flavor = "multi_thread")]
async fn what_is_said_is_what_is() {
    let seed = std::env::var("MODEL_SEED")
        .ok()
        .and_then(|seed| seed.parse().ok());
    let seed = seed.unwrap_or_else(|| u64::from(std::process::id()));
    println!("MODEL_SEED={seed}");
    let mut model = Model::new(seed);
    for number in 0..24 {
        model.step(number % 5 == 4).await;
    }
    let played = model.finish().await;
    println!("{played:?}");
    assert!(played.kills + played.database_kills > 2, "{played:?}");
}

/// Everything but vault and key is lost, and what the records say afterwards is what is.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_said_after_everything_was_lost_is_what_is() {
    let seed = std::env::var("MODEL_SEED")
        .ok()
        .and_then(|seed| seed.parse().ok());
    let seed = seed.unwrap_or_else(|| u64::from(std::process::id()) + 1);
    println!("MODEL_SEED={seed}");
    let mut model = Model::new(seed);
    for _ in 0..4 {
        model.step(false).await;
    }
    model.lose_everything(5).await;
    for _ in 0..4 {
        model.step(false).await;
    }
    println!("{:?}", model.finish().await);
}

/// Checks that are cut off, boards that are accepted and rejected, damage to the vault and a clock that jumps.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_said_of_checks_boards_damage_and_after_the_clock_jumped_is_what_is() {
    let seed = std::env::var("MODEL_SEED")
        .ok()
        .and_then(|seed| seed.parse().ok());
    let seed = seed.unwrap_or_else(|| u64::from(std::process::id()) + 2);
    println!("MODEL_SEED={seed}");
    let mut model = Model::new(seed);
    model.seldom(false).await;
    model.seldom(true).await;
    let played = model.finish().await;
    println!("{played:?}");
    assert!(played.arrivals > 0, "{played:?}");
}
