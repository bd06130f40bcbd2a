//! The stand-in's slots pass the suite that every slot passes, and its faults are what they say.

use std::net::SocketAddr;
use std::sync::Arc;

use bench::Bench;
use bench::wire::{Fault, Line, NewCard, Reply, Request};
use cardwork::{Access, CardError, CardIo, Slot, conformance};
use standin::Server;

struct Reader {
    _dir: tempfile::TempDir,
    address: SocketAddr,
    line: Line,
    made: u32,
}

impl Reader {
    fn start() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let server = Server::bind(dir.path(), 2, "127.0.0.1:0".parse().unwrap()).unwrap();
        let address = server.address().unwrap();
        std::thread::spawn(move || server.run());
        Self {
            _dir: dir,
            address,
            line: Line::new(Some(address)),
            made: 0,
        }
    }

    fn ask(&self, request: &Request) {
        let (reply, _) = self.line.ask(request, &[]).unwrap();
        assert!(!matches!(reply, Reply::Refused { .. }), "{reply:?}");
    }

    fn slot(&self) -> Arc<dyn Slot> {
        Bench::new(Some(self.address), None)
            .slot(1)
            .unwrap()
            .expect("slot 1")
    }

    fn put_new(&mut self, locked: bool, fault: Option<Fault>) {
        self.made += 1;
        let name = format!("card-{}", self.made);
        let card = NewCard {
            name: name.clone(),
            size: 4 << 20,
            kind: "SD card".into(),
            locked,
            rate: None,
            fault,
            block: 512,
        };
        self.ask(&Request::Make { card });
        self.ask(&Request::Put {
            card: name,
            slot: 1,
        });
    }

    fn with_fault(&mut self, fault: Fault) -> Box<dyn CardIo> {
        self.put_new(false, Some(fault));
        let slot = self.slot();
        slot.open(&slot.medium().unwrap().unwrap().insertion, Access::Hold)
            .unwrap()
    }
}

impl conformance::Hands for Reader {
    fn put(&mut self, locked: bool) {
        self.put_new(locked, None);
    }
    fn pull(&mut self) {
        self.ask(&Request::Pull { slot: 1 });
    }
}

#[test]
fn the_stand_in_slot_conforms() {
    let mut reader = Reader::start();
    let slot = reader.slot();
    conformance::suite(slot.as_ref(), &mut reader);
}

#[test]
fn faults_are_what_they_say() {
    let mut reader = Reader::start();
    let mut byte = [0];

    let card = reader.with_fault(Fault::Wraps { capacity: 1 << 20 });
    card.write_at(5, b"a").unwrap();
    card.write_at((1 << 20) + 5, b"b").unwrap();
    card.read_at(5, &mut byte).unwrap();
    assert_eq!(&byte, b"b", "a later write destroys an earlier one");

    let card = reader.with_fault(Fault::Drops { capacity: 1 << 20 });
    card.write_at((1 << 20) - 1, b"ab").unwrap();
    let mut pair = [9; 2];
    card.read_at((1 << 20) - 1, &mut pair).unwrap();
    assert_eq!(&pair, b"a\0");

    let card = reader.with_fault(Fault::BadRegion {
        offset: 4096,
        len: 512,
    });
    card.read_at(0, &mut byte).unwrap();
    assert!(matches!(
        card.read_at(4500, &mut byte),
        Err(CardError::Failed { .. })
    ));

    let card = reader.with_fault(Fault::FlipsBits { every: 1000 });
    let mut read = [0; 100];
    card.read_at(2950, &mut read).unwrap();
    assert_eq!((read[49], read[50]), (0, 0x10));

    let card = reader.with_fault(Fault::KeepsNothing);
    card.write_at(0, b"x").unwrap();
    card.read_at(0, &mut byte).unwrap();
    assert_eq!(byte, [0]);

    let card = reader.with_fault(Fault::Vanishes { after: 100 });
    card.write_at(0, &[1; 100]).unwrap();
    assert!(matches!(card.write_at(100, &[1]), Err(CardError::Gone)));
    assert_eq!(reader.slot().medium().unwrap(), None);
}

#[test]
fn a_blank_card_starts_no_board() {
    let mut reader = Reader::start();
    reader.put_new(false, None);
    let request = Request::Boot {
        card: "card-1".into(),
        model: "plover".into(),
        board: bench::wire::BoardKind::default(),
    };
    let Reply::Boards(boards) = reader.line.ask(&request, &[]).unwrap().0 else {
        panic!("a board was asked for");
    };
    assert_eq!((boards[0].lamp.as_str(), &boards[0].page), ("dark", &None));
    assert_eq!(
        reader.slot().medium().unwrap(),
        None,
        "its card was taken out of the slot"
    );
}
