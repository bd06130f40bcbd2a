//! Values given on the command line: words for all to see, secrets typed or out of files.

use std::io::Read;

use anyhow::{Context as _, bail};
use api::{Setting, SettingsChange};
use clap::{Args, ValueEnum};

/// Values to set or to take away.
#[derive(Args)]
pub struct Values {
    /// Values for all to see; lists have one item a line.
    #[arg(value_name = "FIELD=VALUE")]
    values: Vec<String>,
    /// A value out of a file, such as several keys; - is standard input.
    #[arg(long, value_name = "FIELD=FILE")]
    file: Vec<String>,
    /// A secret to type, hidden.
    #[arg(long, value_name = "FIELD")]
    secret: Vec<String>,
    /// A secret out of a file; - is standard input.
    #[arg(long, value_name = "FIELD=FILE")]
    secret_file: Vec<String>,
    /// A strong password to make, which is told once.
    #[arg(long, value_name = "FIELD")]
    generate: Vec<String>,
    /// A value to take away.
    #[arg(long, value_name = "FIELD")]
    clear: Vec<String>,
}

/// How a network keeps strangers out.
#[derive(Clone, Copy, ValueEnum)]
pub enum Security {
    Open,
    Wpa2,
    Wpa3,
}

/// A Wi-Fi network to add, change or take away.
#[derive(Args)]
pub struct NetworkChange {
    /// Name of the network.
    network: String,
    /// How it keeps strangers out.
    #[arg(long, value_enum, default_value = "wpa2")]
    security: Security,
    /// It does not announce its name.
    #[arg(long)]
    hidden: bool,
    /// The passphrase out of a file; - is standard input. Without this it is typed.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<String>,
    /// Try it first; otherwise it is tried last.
    #[arg(long, conflicts_with = "remove")]
    first: bool,
    /// Take the network away.
    #[arg(long)]
    remove: bool,
    /// The field, where there are several with networks.
    #[arg(long)]
    field: Option<String>,
}

/// The text of a file, - for standard input.
pub fn read_text(path: &str) -> anyhow::Result<String> {
    let mut text = String::new();
    match path {
        "-" => std::io::stdin().read_to_string(&mut text)?,
        path => std::fs::File::open(path)
            .and_then(|mut file| file.read_to_string(&mut text))
            .with_context(|| format!("cannot read {path}"))?,
    };
    Ok(text.trim_end_matches(['\r', '\n']).into())
}

fn pair(text: &str, what: &str) -> anyhow::Result<(String, String)> {
    let (field, value) = text
        .split_once('=')
        .with_context(|| format!("{text:?} should be FIELD={what}"))?;
    Ok((field.into(), value.into()))
}

impl Values {
    /// The change that is meant; `known` are the fields there are.
    pub fn gather(self, known: &[Setting]) -> anyhow::Result<SettingsChange> {
        let secret = |field: &str| known.iter().any(|one| one.name == field && one.secret);
        let mut change = SettingsChange::default();
        for text in self.values {
            let (field, value) = pair(&text, "VALUE")?;
            if secret(&field) {
                bail!(
                    "{field} is a secret, and words of a command end up in histories: use --secret {field} and type it"
                );
            }
            change.set.insert(field, Some(value));
        }
        for text in self.file.into_iter().chain(self.secret_file) {
            let (field, path) = pair(&text, "FILE")?;
            change.set.insert(field, Some(read_text(&path)?));
        }
        for field in self.secret {
            let value = rpassword::prompt_password(format!("{field}: "))?;
            change.set.insert(field, Some(value));
        }
        for field in self.generate {
            let mut random = [0; 16];
            getrandom::fill(&mut random).context("this computer gives no random bytes")?;
            let password = settings::make_password(random);
            eprintln!("{field} is {password}; it is told this once");
            change.set.insert(field, Some(password));
        }
        let clear = self.clear.into_iter().map(|field| (field, None));
        change.set.extend(clear);
        if change.set.is_empty() {
            bail!(
                "nothing to set: give FIELD=VALUE, --file, --secret, --secret-file, --generate or --clear"
            );
        }
        Ok(change)
    }
}

impl NetworkChange {
    /// The change that is meant. Passphrases of networks that stay are left out: the service
    /// keeps them.
    pub fn gather(self, known: &[Setting]) -> anyhow::Result<SettingsChange> {
        let mut fields = known.iter().filter(|one| one.kind == "networks");
        let field = match &self.field {
            Some(name) => fields.find(|one| one.name == *name),
            None => fields.next(),
        };
        let field =
            field.context("the release has no field with networks; see the fields with show")?;
        let value = |name: &str, hidden: bool, security: &str, passphrase: Option<String>| {
            serde_json::json!({
                "name": name, "hidden": hidden, "security": security, "passphrase": passphrase,
            })
        };
        let mut networks: Vec<_> = field
            .networks
            .iter()
            .filter(|one| one.name != self.network)
            .map(|one| value(&one.name, one.hidden, &one.security, None))
            .collect();
        if self.remove {
            if networks.len() == field.networks.len() {
                bail!("{} is not among the networks", self.network);
            }
        } else {
            let security = match self.security {
                Security::Open => "open",
                Security::Wpa2 => "wpa2",
                Security::Wpa3 => "wpa3",
            };
            let passphrase = match (self.security, &self.passphrase_file) {
                (Security::Open, _) => None,
                (_, Some(path)) => Some(read_text(path)?),
                (_, None) => {
                    let prompt = format!("passphrase of {}: ", self.network);
                    Some(rpassword::prompt_password(prompt)?)
                }
            };
            let new = value(&self.network, self.hidden, security, passphrase);
            let place = if self.first { 0 } else { networks.len() };
            networks.insert(place, new);
        }
        let text = (!networks.is_empty()).then(|| serde_json::Value::from(networks).to_string());
        let mut change = SettingsChange::default();
        change.set.insert(field.name.clone(), text);
        Ok(change)
    }
}
