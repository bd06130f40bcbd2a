//! Which board answers. Two boards can have one name, and an old one can still be on: what tells them apart is
//! what only one of them has.

/// What the records know of a device.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Marks {
    /// Its name.
    pub device: String,
    /// The imprint that its card carries.
    pub imprint: Option<i64>,
    /// Its hardware addresses, small letters with colons.
    pub macs: Vec<String>,
    /// Fingerprint of its SSH server's key, as it was seen when it was last accepted with this imprint.
    pub host_key: Option<String>,
    /// Imprints that cards of it had before.
    pub former: Vec<i64>,
}

/// What a board says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Told {
    /// Imprint and device of the stamp on the card that it runs from.
    pub stamp: Option<(i64, Option<String>)>,
    /// Its hardware address.
    pub mac: Option<String>,
    /// Fingerprint of its SSH server's key.
    pub host_key: Option<String>,
}

/// Which board it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Known {
    /// The one that is waited for.
    This {
        /// What it is known by.
        by: &'static str,
    },
    /// The one that is waited for, with a card that was made for something else.
    OtherCard {
        /// Whose card it is, or which imprint it carries.
        whose: String,
    },
    /// Another one.
    Other {
        /// Its name.
        device: String,
        /// What it is known by.
        by: &'static str,
    },
    /// It has the name and nothing that proves it.
    NameOnly,
}

/// Tells which board it is that says this. `others` are the devices whose marks are known besides.
///
/// A stamp counts before everything else: it says which card a board runs from now. A hardware address tells
/// boards apart where no stamp does, and finds a card that was put into another board. A key is on the card, and
/// so tells no board, only a card that was started before.
pub fn tell(ours: &Marks, others: &[Marks], told: &Told) -> Known {
    let whose_mac = |mac: &String| {
        let own = ours.macs.contains(mac).then_some(ours);
        own.or_else(|| others.iter().find(|other| other.macs.contains(mac)))
    };
    let board = told.mac.as_ref().and_then(whose_mac);
    if let Some((imprint, device)) = &told.stamp {
        let is_ours = ours.imprint == Some(*imprint);
        return match (is_ours, board) {
            (true, Some(board)) if board.device != ours.device => Known::Other {
                device: board.device.clone(),
                by: "its hardware address, with the card that was made for this one",
            },
            (true, _) => Known::This { by: "its stamp" },
            (false, Some(board)) if board.device == ours.device => Known::OtherCard {
                whose: device
                    .clone()
                    .unwrap_or_else(|| format!("imprint {imprint}")),
            },
            (false, _) => match device {
                Some(device) if *device != ours.device => Known::Other {
                    device: device.clone(),
                    by: "its stamp",
                },
                _ if ours.former.contains(imprint) => Known::OtherCard {
                    whose: format!("imprint {imprint}, an older card of this device"),
                },
                _ => Known::OtherCard {
                    whose: format!("imprint {imprint}, which these records do not know"),
                },
            },
        };
    }
    match board {
        Some(board) if board.device == ours.device => {
            return Known::This {
                by: "its hardware address",
            };
        }
        Some(board) => {
            return Known::Other {
                device: board.device.clone(),
                by: "its hardware address",
            };
        }
        None => {}
    }
    let of_key = |key: &String| {
        let own = (ours.host_key.as_ref() == Some(key)).then_some(ours);
        own.or_else(|| {
            others
                .iter()
                .find(|other| other.host_key.as_ref() == Some(key))
        })
    };
    match told.host_key.as_ref().and_then(of_key) {
        Some(board) if board.device == ours.device => Known::This { by: "its SSH key" },
        Some(board) => Known::Other {
            device: board.device.clone(),
            by: "its SSH key",
        },
        None => Known::NameOnly,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn marks(device: &str, imprint: i64, mac: &str, key: &str) -> Marks {
        Marks {
            device: device.into(),
            imprint: Some(imprint),
            macs: vec![mac.into()],
            host_key: Some(key.into()),
            former: vec![3, 4],
        }
    }

    fn told(stamp: Option<(i64, &str)>, mac: Option<&str>, key: Option<&str>) -> Told {
        Told {
            stamp: stamp.map(|(imprint, device)| (imprint, Some(device.into()))),
            mac: mac.map(Into::into),
            host_key: key.map(Into::into),
        }
    }

    #[test]
    fn what_only_one_board_has_tells_which_it_is() {
        let ours = marks("quay-03", 41, "5a:17:00:00:00:03", "K3");
        let others = [marks("quay-04", 17, "5a:17:00:00:00:04", "K4")];
        let tell = |stamp, mac, key| tell(&ours, &others, &told(stamp, mac, key));
        let other = |by| Known::Other {
            device: "quay-04".into(),
            by,
        };
        let this = |by| Known::This { by };
        assert_eq!(tell(None, None, None), Known::NameOnly);
        assert_eq!(
            tell(None, Some("5a:17:00:00:00:99"), Some("K9")),
            Known::NameOnly
        );
        assert_eq!(tell(Some((41, "quay-03")), None, None), this("its stamp"));
        assert_eq!(
            tell(None, Some("5a:17:00:00:00:03"), None),
            this("its hardware address")
        );
        assert_eq!(tell(None, None, Some("K3")), this("its SSH key"));
        assert_eq!(tell(None, None, Some("K4")), other("its SSH key"));
        assert_eq!(
            tell(None, Some("5a:17:00:00:00:04"), Some("K3")),
            other("its hardware address")
        );
        assert_eq!(tell(Some((17, "quay-04")), None, None), other("its stamp"));
        // The card of one in the board of another, both ways.
        assert_eq!(
            tell(Some((41, "quay-03")), Some("5a:17:00:00:00:04"), None),
            other("its hardware address, with the card that was made for this one")
        );
        assert_eq!(
            tell(Some((17, "quay-04")), Some("5a:17:00:00:00:03"), None),
            Known::OtherCard {
                whose: "quay-04".into()
            }
        );
        // Its card of before, and an imprint that never was.
        let card = |imprint| match tell(Some((imprint, "quay-03")), None, None) {
            Known::OtherCard { whose } => whose,
            other => panic!("{other:?}"),
        };
        assert!(card(4).contains("an older card of this device"));
        assert!(card(40).contains("these records do not know"));
    }
}
