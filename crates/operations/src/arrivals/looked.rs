//! One look at a board that was found: which one it is, what it says, what of it is as it should be.

use arrival::known::{Known, Marks, Told, tell};
use arrival::locate::Sighting;
use arrival::look::{Login, Page, host_key, port_answers, read_page, value_at};
use imagecraft::Stamp;
use imagecraft::fs::name;

use super::awaited::{Awaited, Wanted};
use super::now;
use api::words::size;

/// What of a foreign text is shown, in characters.
const SHOWN: usize = 160;

/// Foreign text, cut to what can be shown.
fn cut(text: &str) -> String {
    // Lines become one; whatever else is not seen is shown as what it is.
    let line: String = text
        .trim()
        .chars()
        .map(|c| if c.is_control() { ' ' } else { c })
        .collect();
    let line = name::shown(&line);
    let mut plain = line.chars();
    let mut shown: String = plain.by_ref().take(SHOWN).collect();
    if plain.next().is_some() {
        shown.push('…');
    }
    shown
}

/// A board with everything that it said.
pub(super) struct Looked {
    pub board: api::SeenBoard,
    pub checks: Vec<api::CheckResult>,
}

/// Whether a board is the one that is waited for, as far as can be told.
pub(super) fn may_be_ours(board: &api::SeenBoard) -> bool {
    matches!(board.whose.as_str(), "this" | "name-only")
}

/// Looks at a board that was found.
pub(super) async fn look(
    awaited: &Awaited,
    sighting: &Sighting,
    found_by: Vec<String>,
    ours: &Marks,
    others: &[Marks],
) -> Looked {
    let stamp = match &awaited.stamp {
        Some(page) => read_page(sighting, page, None).await.ok(),
        None => None,
    };
    let stamp = stamp.and_then(|page| Stamp::read(page.text.as_bytes()));
    let key = host_key(sighting.at(22)).await;
    let told = Told {
        stamp: stamp.map(|stamp| (stamp.imprint, stamp.device)),
        mac: sighting.mac.clone(),
        host_key: key.clone().ok(),
    };
    let (whose, words) = in_words(&tell(ours, others, &told), &ours.device);
    let mut board = api::SeenBoard {
        address: sighting.address.to_string(),
        found_by,
        whose: whose.into(),
        words,
        mac: sighting.mac.clone(),
        host_key: key.ok(),
        ports: sighting.ports.clone(),
        ..api::SeenBoard::default()
    };
    match &awaited.page {
        None => board.answers = port_answers(sighting.at(awaited.sought.port)).await,
        Some(url) => match read_page(sighting, url, None).await {
            Ok(page) => {
                board.answers = page.status < 400;
                board.problem = page.trouble(url);
                keep_certificate(&mut board, &page);
                board.clock_ahead = page.date.map(|date| (date - now()).whole_seconds());
            }
            Err(why) => board.problem = Some(cut(&why.to_string())),
        },
    }
    let mut checks = Vec::new();
    for wanted in &awaited.checks {
        checks.push(check(wanted, sighting, &mut board).await);
    }
    Looked { board, checks }
}

fn keep_certificate(board: &mut api::SeenBoard, page: &Page) {
    if let Some(certificate) = &page.certificate {
        board.certificate = Some(certificate.fingerprint.clone());
        board.certificate_until = certificate.until;
    }
}

/// Which board it is, in a word for programs and a sentence for people.
fn in_words(known: &Known, device: &str) -> (&'static str, String) {
    match known {
        Known::This { by } => ("this", format!("{device}, known by {by}")),
        Known::OtherCard { whose } => (
            "other-card",
            format!("the board of {device}, with the card of {whose} in it"),
        ),
        Known::Other { device: other, by } => (
            "other",
            format!("{other}, known by {by}; it has the name or the address of {device}"),
        ),
        Known::NameOnly => (
            "name-only",
            format!("a board that has the name of {device}; nothing proves that it is the one"),
        ),
    }
}

async fn check(
    wanted: &Wanted,
    sighting: &Sighting,
    board: &mut api::SeenBoard,
) -> api::CheckResult {
    let result = |state: &str, words: String| api::CheckResult {
        title: wanted.check.title.clone(),
        state: state.into(),
        words,
    };
    if let Some(port) = wanted.check.port {
        return match port_answers(sighting.at(port)).await {
            true => result("passed", format!("port {port} answers")),
            false => result("failed", format!("port {port} does not answer")),
        };
    }
    let Some(url) = &wanted.page else {
        return result(
            "waiting",
            "its address is not known: a field of it has no value".into(),
        );
    };
    let page = match read_page(sighting, url, None).await {
        Ok(page) => match page.trouble(url) {
            None => page,
            Some(trouble) => return result("failed", trouble),
        },
        Err(why) => return result("waiting", cut(&why.to_string())),
    };
    let value = match value_at(&page, wanted.check.at.as_deref()) {
        Ok(value) => value,
        Err(why) => return result("failed", cut(&why)),
    };
    if wanted.check.version {
        board.version = Some(cut(&value));
    }
    let whole_page = wanted.check.at.is_none();
    let found = if whole_page {
        "the page".to_owned()
    } else {
        format!("“{}”", cut(&value))
    };
    if let Some(text) = &wanted.check.text
        && !value.contains(text.as_str())
    {
        let cut = match page.cut {
            true => ", which broke off or is longer than 256 KiB",
            false => "",
        };
        return result("failed", format!("“{text}” is not in {found}{cut}"));
    }
    if let Some(percent) = wanted.check.fills {
        let Some(card) = wanted.card_bytes else {
            return result(
                "passed",
                format!("{found}; the size of its card is not known"),
            );
        };
        let words = match value.trim().parse::<u64>() {
            Err(_) => format!("{found} is no number of bytes"),
            Ok(bytes) if bytes / u64::from(percent) < card / 100 => {
                let (has, of) = (size(bytes), size(card));
                format!("{has} of a card of {of}: it did not grow to the end of its card")
            }
            Ok(bytes) => {
                let words = format!("{} of a card of {}", size(bytes), size(card));
                return result("passed", words);
            }
        };
        return result("failed", words);
    }
    if wanted.check.field.is_some() {
        let Some(should) = &wanted.value else {
            return result(
                "passed",
                format!("{found}; nothing is set to compare it with"),
            );
        };
        if value.trim() != should.trim() {
            return result("failed", format!("{found}, and “{}” is set", cut(should)));
        }
    }
    if wanted.check.version
        && let Some(release) = &wanted.release
        && !release.is_said_by(&value)
    {
        return result(
            "question",
            format!(
                "{found}, and its card has {}: was it updated in place?",
                release.name
            ),
        );
    }
    result("passed", found)
}

/// Whether the logins that everybody knows are still open on a board. Each is tried once: a page that opens without a
/// password, or with a wrong one, says nothing about the right one.
pub(super) async fn try_logins(awaited: &Awaited, sighting: &Sighting) -> Vec<api::LoginResult> {
    let mut all = Vec::new();
    for tried in &awaited.logins {
        let login = |password: String| Login {
            user: tried.user.clone(),
            password,
        };
        let opens = async |login: Option<&Login>| {
            let answer = read_page(sighting, &tried.page, login).await;
            match answer.map(|page| page.status) {
                Ok(200..=299) => Some(true),
                Ok(401 | 403) => Some(false),
                _ => None,
            }
        };
        let wrong = login(format!("no password {}", now().unix_timestamp_nanos()));
        let right = login(tried.password.clone());
        let state = match opens(None).await {
            Some(true) => "not asked",
            None => "unknown",
            Some(false) => match opens(Some(&wrong)).await {
                Some(true) => "any password",
                None => "unknown",
                Some(false) => match opens(Some(&right)).await {
                    Some(true) => "open",
                    Some(false) => "closed",
                    None => "unknown",
                },
            },
        };
        all.push(api::LoginResult {
            user: tried.user.clone(),
            state: state.into(),
        });
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn foreign_text_is_cut_and_steers_nothing() {
        assert_eq!(cut("  up\u{1b}[31m\nand well "), "up [31m and well");
        assert_eq!(cut("2.4\u{202e}9.9"), "2.4\\u{202e}9.9");
        let long = cut(&"å".repeat(500));
        assert_eq!(
            (long.chars().count(), long.ends_with('…')),
            (SHOWN + 1, true)
        );
    }
}
