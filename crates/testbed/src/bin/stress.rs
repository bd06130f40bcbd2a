//! `make stress`: the model played for long, the service and its database killed at random moments
//! of import, write, backup and restore; then writes at a bench on another computer, whose line, worker and service are
//! cut and killed; then two hands at two services on one vault. Ends red at the first untrue word.
//!
//!     stress [MINUTES] [KILLS]

use std::time::{Duration, Instant};

use testbed::hands;
use testbed::lines::play;
use testbed::model::{Model, Played};

fn number(place: usize, usual: u64) -> u64 {
    let given = std::env::args().nth(place);
    given.and_then(|text| text.parse().ok()).unwrap_or(usual)
}

#[tokio::main(flavor = "multi_thread")]
async fn main() {
    let (minutes, kills) = (number(1, 30), number(2, 100));
    let (begun, mut all) = (Instant::now(), Played::default());
    let mut seed = number(3, u64::from(std::process::id()));
    while begun.elapsed() < Duration::from_secs(60 * minutes) || all.kills < kills {
        seed += 1;
        println!(
            "seed {seed}, {:.0} s: {all:?}",
            begun.elapsed().as_secs_f64()
        );
        let mut model = Model::new(seed);
        for step in 0..60 {
            model.step(step % 2 == 1).await;
            if step % 20 == 10 {
                model.seldom(step > 40).await;
            }
            if step % 30 == 20 {
                model.lose_everything(seed % 5).await;
            }
        }
        all += model.finish().await;
    }
    let rounds = (kills / 4).max(4);
    println!("seed {seed}: {rounds} writes at a bench on another computer");
    let lines = tokio::task::spawn_blocking(move || play(seed, rounds)).await;
    println!("{:?}", lines.expect("nothing untrue was said"));
    println!("seed {seed}: {rounds} rounds with each of two hands at two services");
    let hands = tokio::task::spawn_blocking(move || hands::play(seed, rounds)).await;
    println!("{:?}", hands.expect("nothing that was promised was lost"));
    println!(
        "{} steps in {:.0} s: {} jobs done, service killed {} times, {} of them between the last block and the \
         record, database {} times, {} cards that lied, failed or vanished, {} checks cut off, {} boards accepted or \
         rejected, {} pieces of the vault damaged, {} jumps of the clock; nothing acknowledged was lost, nothing false \
         was said",
        all.steps,
        begun.elapsed().as_secs_f64(),
        all.done,
        all.kills,
        all.last_block_kills,
        all.database_kills,
        all.faults,
        all.cut_checks,
        all.arrivals,
        all.harmed,
        all.jumps
    );
}
