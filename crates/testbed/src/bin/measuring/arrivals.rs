//! What two hundred boards that are waited for at once cost the service.

use std::io::{Read, Write};
use std::net::TcpListener;
use std::time::Duration;

use anyhow::{Result, ensure};
use api::{ArrivalChange, NewArrival};
use testbed::Testbed;

use crate::place::{Place, Row};

const BOARDS: usize = 200;
/// How long is looked on.
const WHILE: Duration = Duration::from_secs(30);

/// A board that answers all questions alike; all of them are it.
fn board() -> Result<u16> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let port = listener.local_addr()?.port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            std::thread::spawn(move || {
                let mut stream = stream;
                let mut heard = [0; 2048];
                let _ = stream.read(&mut heard);
                let body = r#"{"appliance": "quaylink 2.4", "joined": "none that is set"}"#;
                let _ = write!(
                    stream,
                    "HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
                    body.len()
                );
            });
        }
    });
    Ok(port)
}

/// Half of the boards are not found, half are there and fail one of their checks, so that all of them are looked
/// at as often as any.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    let runtime = &place.runtime;
    let bed = Testbed::start();
    bed.load_catalogue();
    let port = board()?;
    let sheet = std::fs::read_to_string(testbed::demo_sheet("quaylink-2.4.toml"))?;
    let sheet = sheet.replace(
        "http://{host_name}/",
        &format!("http://{{host_name}}:{port}/"),
    );
    let file = bed.dir().join("sheet.toml");
    std::fs::write(&file, sheet)?;
    bed.done(&[
        "release",
        "sheet",
        "quaylink 2.4",
        "--revise",
        testbed::path(&file),
    ]);
    let mut table = String::from("name,board,appliance,site,host_name,wifi_country,wifi_network\n");
    for number in 0..BOARDS {
        table +=
            &format!("unit-{number:03},curlew,quaylink,quay,unit-{number:03},NO,Saltmarsh-Quay\n");
    }
    let client = bed.client();
    runtime.block_on(async {
        let report = client.put_device_table(table, false).await?;
        ensure!(report.done, "{:?}", report.problems.first());
        for number in 0..BOARDS {
            let new = NewArrival {
                device: format!("unit-{number:03}"),
                ..NewArrival::default()
            };
            let begun = client.expect(&new).await?.arrival.id;
            if number % 2 == 0 {
                let change = ArrivalChange {
                    address: Some("127.0.0.1".into()),
                    lamp: None,
                };
                client.tell_arrival(begun, &change).await?;
            }
        }
        tokio::time::sleep(Duration::from_secs(10)).await;
        let found = client.arrivals(None).await?.items;
        let answer = found.iter().filter(|one| one.state == "answers").count();
        ensure!(answer == BOARDS / 2, "{answer} of them answer");
        anyhow::Ok(())
    })?;
    let before = bed.service_seconds();
    std::thread::sleep(WHILE);
    let took = bed.service_seconds() - before;
    Ok(vec![Row {
        name: "processors that 200 arrivals take, half of them answering",
        value: took / WHILE.as_secs_f64(),
        unit: "cores",
        bar: Some(0.1),
    }])
}
