//! How much memory the service takes while all of its slots are at work.

use anyhow::{Result, ensure};
use testbed::Testbed;

use crate::place::{Place, Row};

/// The most memory that the service takes with eight cards of 64 GB at work at once, through all of it.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    const CARDS: u32 = 8;
    let bed = Testbed::start_wide(CARDS, &["--private-addresses"], |_| {});
    bed.load_catalogue();
    let runtime = &place.runtime;
    let client = bed.client();
    let mut jobs = Vec::new();
    for slot in 1..=CARDS {
        let name = format!("quay-{slot:02}");
        bed.add_device(&name);
        bed.make_card(&name, "64GB", &["--rate", "8MB"]);
        bed.put(&name, slot);
    }
    for slot in 1..=CARDS {
        let new = api::NewPlan {
            device: Some(format!("quay-{slot:02}")),
            slot: slot.into(),
            ..api::NewPlan::default()
        };
        let plan = runtime.block_on(client.plan(&new))?;
        jobs.push(runtime.block_on(client.confirm(&plan.id, plan.agreed(), None))?);
    }
    let mut most = 0;
    for job in jobs {
        let see = |_: &api::Job| most = bed.service_memory().max(most);
        let ended = runtime.block_on(client.follow(job.id, see))?;
        ensure!(ended.state == "done", "{ended:?}");
    }
    Ok(vec![Row {
        name: "memory of the service, eight cards of 64 GB at work",
        value: most as f64 / 1e6,
        unit: "MB",
        bar: Some(300.0),
    }])
}
