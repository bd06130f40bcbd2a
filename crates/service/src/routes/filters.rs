//! Words of filters: one that does not exist is refused with those that do, and never an empty list.

use crate::app::App;
use crate::error::ApiError;

/// States of devices.
pub const DEVICE_STATES: &[&str] = &["planned", "carded", "in service", "down", "retired"];

/// States of cards.
pub const CARD_STATES: &[&str] = &[
    "blank",
    "writing",
    "incomplete",
    "imprinted",
    "in device",
    "spare",
    "held",
    "suspect",
    "lost",
    "retired",
];

/// Refuses the name of a site that there is not.
pub async fn site(app: &App, given: Option<&str>) -> Result<(), ApiError> {
    match given {
        None => Ok(()),
        Some(_) => {
            let sites = app.records.sites().await?.into_iter();
            check("site", given, sites.map(|site| site.name))
        }
    }
}

/// Refuses a board model that there is not.
pub async fn board(app: &App, given: Option<&str>) -> Result<(), ApiError> {
    match given {
        None => Ok(()),
        Some(_) => {
            let boards = app.records.boards().await?.into_iter();
            check("board model", given, boards.map(|board| board.name))
        }
    }
}

/// Refuses an appliance that no release is of and no device becomes.
pub async fn appliance(app: &App, given: Option<&str>) -> Result<(), ApiError> {
    match given {
        None => Ok(()),
        Some(_) => check("appliance", given, app.records.appliances().await?),
    }
}

/// Refuses the name of a device that there is not.
pub async fn device(app: &App, given: Option<&str>) -> Result<(), ApiError> {
    if let Some(name) = given {
        app.records.device(name).await?;
    }
    Ok(())
}

/// Refuses the label of a card that there is not.
pub async fn card(app: &App, given: Option<&str>) -> Result<(), ApiError> {
    if let Some(label) = given {
        app.records.card(label).await?;
    }
    Ok(())
}

/// Refuses a word that is none of those that are known.
pub fn check<W: AsRef<str>>(
    what: &str,
    given: Option<&str>,
    known: impl IntoIterator<Item = W>,
) -> Result<(), ApiError> {
    let Some(given) = given else {
        return Ok(());
    };
    let known: Vec<W> = known.into_iter().collect();
    if known.iter().any(|one| one.as_ref() == given) {
        return Ok(());
    }
    let all: Vec<_> = known.iter().map(AsRef::as_ref).take(SAID).collect();
    let more = match known.len().saturating_sub(SAID) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    let there = match all.is_empty() {
        true => "there is none yet".into(),
        false => format!("there are {}{more}", all.join(", ")),
    };
    Err(unknown(format!("there is no {what} {given:?}; {there}")))
}

/// A refusal of a word that a filter does not know.
pub fn unknown(detail: String) -> ApiError {
    ApiError::invalid("unknown-word", detail)
}

/// Words that are said of a longer list.
const SAID: usize = 40;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_unknown_word_is_refused_with_those_that_are_known() {
        assert!(check("site", None, ["quay"]).is_ok());
        assert!(check("site", Some("quay"), ["quay", "mole"]).is_ok());
        let refused = check("site", Some("key"), ["quay", "mole"]).unwrap_err();
        let words = format!("{refused:?}");
        assert!(words.contains("quay, mole"), "{words}");
        let none: [&str; 0] = [];
        let words = format!("{:?}", check("site", Some("key"), none).unwrap_err());
        assert!(words.contains("there is none yet"), "{words}");
    }
}
