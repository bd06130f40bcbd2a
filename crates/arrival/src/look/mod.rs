//! What a board says when it is looked at: pages, ports, its SSH server's key.

mod certificate;
mod page;
mod ssh;

use std::net::SocketAddr;
use std::time::Duration;

use serde_json::Value;
use tokio::net::TcpStream;

pub use certificate::Certificate;
pub use page::{Login, Page, PageError, give_page, port_of, read_page};
pub use ssh::host_key;

/// How long a board may take to answer one question.
pub(crate) const PATIENCE: Duration = Duration::from_secs(5);

/// Whether a port takes connections.
pub async fn port_answers(at: SocketAddr) -> bool {
    let answer = tokio::time::timeout(PATIENCE, TcpStream::connect(at)).await;
    matches!(answer, Ok(Ok(_)))
}

/// The value that lies at a place of a page of JSON, as text; without a place the whole page.
///
/// # Errors
/// Why there is none, for people.
pub fn value_at(page: &Page, at: Option<&str>) -> Result<String, String> {
    let Some(at) = at else {
        return Ok(page.text.clone());
    };
    let json: Value = serde_json::from_str(&page.text).map_err(|_| match page.cut {
        true => "the page broke off, or is longer than 256 KiB".to_owned(),
        false => "the page is no JSON".to_owned(),
    })?;
    match json.pointer(at) {
        None => Err(format!("there is nothing at {at} of the page")),
        Some(Value::String(text)) => Ok(text.clone()),
        Some(Value::Null) => Ok(String::new()),
        Some(other) => Ok(other.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_found_in_json_and_missed_in_words() {
        let page = |text: &str| Page {
            status: 200,
            text: text.into(),
            cut: false,
            date: None,
            certificate: None,
            sends_to: None,
        };
        let json = page(r#"{"a": {"version": "2.4", "n": 7, "none": null}}"#);
        assert_eq!(value_at(&json, Some("/a/version")).as_deref(), Ok("2.4"));
        assert_eq!(value_at(&json, Some("/a/n")).as_deref(), Ok("7"));
        assert_eq!(value_at(&json, Some("/a/none")).as_deref(), Ok(""));
        assert!(value_at(&json, Some("/b")).unwrap_err().contains("/b"));
        let mut cut = page(r#"{"a": "#);
        assert!(value_at(&cut, Some("/a")).unwrap_err().contains("no JSON"));
        cut.cut = true;
        assert!(
            value_at(&cut, Some("/a"))
                .unwrap_err()
                .contains("broke off")
        );
        assert_eq!(value_at(&page("up"), None).as_deref(), Ok("up"));
    }
}
