//! People of the team, and what one is signed in with oneself.

use std::io::{BufRead, IsTerminal};

use anyhow::bail;
use api::{
    Client, ClientError, Me, NewPassword, NewPerson, NewPin, NewToken, Person as PersonRow,
    PersonChange, Role, SignIn as Given, SignedIn, Welcome as Taken,
};
use clap::{Args, Subcommand};

use crate::{Context, signed_in, text};

/// A secret that is typed, or a line of what is piped in.
fn secret(prompt: &str) -> anyhow::Result<String> {
    if std::io::stdin().is_terminal() {
        return Ok(rpassword::prompt_password(prompt)?);
    }
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim_end_matches(['\r', '\n']).to_owned())
}

/// What this command line's token is called.
fn token_name() -> String {
    let host = std::fs::read_to_string("/etc/hostname").unwrap_or_default();
    match host.trim() {
        "" => "command line".into(),
        host => format!("command line at {host}"),
    }
}

/// Where the service's certificate is known by: a fingerprint that is given, or was before. One that nobody vouches for
/// and nobody has compared is told, and nothing is sent to it.
async fn trusted(
    context: &Context,
    given: Option<String>,
) -> anyhow::Result<(Client, Option<String>)> {
    let kept = signed_in::of(&context.service).and_then(|kept| kept.fingerprint);
    if let Some(fingerprint) = given.or(kept) {
        return Ok((
            context.client.clone().known_by(&fingerprint)?,
            Some(fingerprint),
        ));
    }
    if context.service.starts_with("https://")
        && let Err(ClientError::NoAnswer { .. }) = context.client.me().await
        && let Some(shown) = api::shown_fingerprint(&context.service).await
    {
        bail!(
            "no authority vouches for the certificate of {}. Its fingerprint is\n  {shown}\nCompare it with the one in the service's log, at its start. If they are the same, say so: --fingerprint {shown}",
            context.service
        );
    }
    Ok((context.client.clone(), None))
}

fn keep(context: &Context, signed: &SignedIn, fingerprint: Option<String>) -> anyhow::Result<()> {
    let Some(token) = signed.token.clone() else {
        bail!("the service gave no token");
    };
    let kept = signed_in::Kept {
        token,
        fingerprint,
        device: signed.device.clone(),
    };
    let path = signed_in::keep(&context.service, Some(kept))?;
    context.show(&signed.me, |me| {
        println!("{}; what shows it is kept in {}", words(me), path.display());
    })
}

fn words(me: &Me) -> String {
    match (&me.name, me.role) {
        _ if me.open => "nobody belongs to the team yet: whoever sits at the service's computer may do everything".into(),
        (Some(name), Some(role)) => format!("signed in as {name}, {role}"),
        _ => "nobody is signed in".into(),
    }
}

/// Sign in; the password is asked for, or read from a line that is piped in.
#[derive(Args)]
pub struct SignIn {
    /// Your name.
    #[arg(long)]
    name: String,
    /// The code of your second factor, if you have one, or one of its recovery codes.
    #[arg(long)]
    code: Option<String>,
    /// Fingerprint of the service's certificate, which you have compared with the one in its log.
    #[arg(long)]
    fingerprint: Option<String>,
}

impl SignIn {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let (client, known_by) = trusted(context, self.fingerprint).await?;
        let given = Given {
            password: secret("password: ")?,
            name: self.name,
            code: self.code,
            device: signed_in::of(&context.service).and_then(|kept| kept.device),
            token: Some(token_name()),
        };
        keep(context, &client.sign_in(&given).await?, known_by)
    }
}

/// Choose a password with a one-time code: as the first owner, as somebody new, or after forgetting it.
#[derive(Args)]
pub struct Welcome {
    /// Your name.
    #[arg(long)]
    name: String,
    /// The one-time code.
    #[arg(long)]
    code: String,
    /// The code of your second factor, if you have one, or one of its recovery codes.
    #[arg(long)]
    factor: Option<String>,
    /// Fingerprint of the service's certificate, which you have compared with the one in its log.
    #[arg(long)]
    fingerprint: Option<String>,
}

impl Welcome {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let (client, known_by) = trusted(context, self.fingerprint).await?;
        let password = secret("choose a password: ")?;
        if std::io::stdin().is_terminal() && secret("once more: ")? != password {
            bail!("the two are not the same; nothing was changed");
        }
        let taken = Taken {
            code: self.code,
            name: self.name,
            password,
            factor: self.factor,
            token: Some(token_name()),
        };
        keep(context, &client.welcome(&taken).await?, known_by)
    }
}

/// Ends what this command line is signed in with.
pub async fn sign_out(context: &Context) -> anyhow::Result<()> {
    // A token that does not count any more is forgotten all the same.
    let ended = context.client.sign_out().await;
    signed_in::keep(&context.service, None)?;
    ended?;
    context.done("signed out")
}

#[derive(Subcommand)]
pub enum Person {
    /// Show who this command line is signed in as.
    Me,
    /// List everybody of the team.
    List,
    /// Let somebody in; prints the one-time code with which they choose a password.
    Add {
        /// Name.
        name: String,
        /// What they may do: looker, "bench hand", keeper or owner.
        #[arg(long)]
        role: Role,
    },
    /// Make a new one-time code for somebody who lost theirs or forgot the password.
    Invite {
        /// Name.
        name: String,
    },
    /// Change what somebody may do. It counts at once.
    Role {
        /// Name.
        name: String,
        /// looker, "bench hand", keeper or owner.
        role: Role,
    },
    /// Part with somebody: what they are signed in with ends, their name stays in the records.
    Remove {
        /// Name.
        name: String,
    },
    /// Change your own password. Everything else that is signed in with it is not any more.
    Password,
    /// Set your PIN for stations, or take it away.
    Pin {
        /// Take it away.
        #[arg(long)]
        none: bool,
    },
}

fn list(people: &[PersonRow]) {
    let rows = people.iter().map(|person| {
        let mut proves = Vec::new();
        if person.welcomed {
            proves.push("password");
        }
        if person.second_factor {
            proves.push("second factor");
        }
        if person.pin {
            proves.push("PIN");
        }
        [
            person.name.clone(),
            person.role.to_string(),
            match proves.is_empty() {
                true => "has a one-time code only".into(),
                false => proves.join(", "),
            },
            person.seen_at.map_or_else(|| "-".into(), text::moment),
            person.made_by.clone(),
        ]
    });
    text::table(["name", "role", "has", "last seen", "let in by"], &[], rows);
}

fn code(made: &api::Invitation) {
    println!("{}", made.code);
    println!(
        "This code is for {}, once, until {}: on the console's first page, or with duplicarium welcome --name {:?} --code {}",
        made.name,
        text::moment(made.until),
        made.name,
        made.code
    );
}

impl Person {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        match self {
            Self::Me => context.show(&client.me().await?, |me| println!("{}", words(me))),
            Self::List => context.show(&client.people().await?, |people| list(people)),
            Self::Add { name, role } => {
                context.show(&client.add_person(&NewPerson { name, role }).await?, code)
            }
            Self::Invite { name } => context.show(&client.invite(&name).await?, code),
            Self::Role { name, role } => {
                let people = client.change_person(&name, &PersonChange { role }).await?;
                context.show(&people, |people| list(people))
            }
            Self::Remove { name } => {
                client.remove_person(&name).await?;
                context.done(&format!("{name} is not of the team any more"))
            }
            Self::Password => {
                let old = secret("password until now: ")?;
                let new = secret("new password: ")?;
                client.change_password(&NewPassword { old, new }).await?;
                context.done("the password is changed; everything else that was signed in with it is not any more")
            }
            Self::Pin { none } => {
                let password = secret("password: ")?;
                let pin = match none {
                    true => None,
                    false => Some(secret("PIN of 4 to 8 digits: ")?),
                };
                client.change_pin(&NewPin { password, pin }).await?;
                context.done(if none {
                    "the PIN is gone"
                } else {
                    "the PIN is set"
                })
            }
        }
    }
}

/// Days that a token is good, unless it is said.
const TOKEN_DAYS: u32 = 365;

#[derive(Subcommand)]
pub enum Pass {
    /// List what you are signed in with; as an owner, what everybody is.
    List,
    /// Make a token for a program. It is printed this once. Your password is asked for, or read from a line that is piped in.
    Make {
        /// What it is for.
        name: String,
        /// The most that may be done with it; not above your own role.
        #[arg(long)]
        role: Role,
        /// Days until it ends by itself.
        #[arg(long, default_value_t = TOKEN_DAYS)]
        days: u32,
        /// The code of your second factor, if you have one.
        #[arg(long)]
        code: Option<String>,
    },
    /// End a session, token or station.
    End {
        /// Its number, as the list has it.
        id: i64,
    },
}

impl Pass {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        match self {
            Self::List => context.show(&client.passes().await?, |passes| {
                let rows = passes.iter().map(|pass| {
                    [
                        pass.id.to_string(),
                        pass.kind.clone(),
                        pass.person
                            .clone()
                            .or(pass.acting.clone())
                            .unwrap_or_else(|| "-".into()),
                        match pass.own {
                            true => format!("{} (this one)", pass.name),
                            false => pass.name.clone(),
                        },
                        pass.role.to_string(),
                        format!("{} from {}", text::moment(pass.used_at), pass.used_from),
                        text::moment(pass.expires_at),
                    ]
                });
                text::table(
                    [
                        "pass",
                        "kind",
                        "person",
                        "called",
                        "may act as",
                        "last used",
                        "ends",
                    ],
                    &[0],
                    rows,
                );
            }),
            Self::Make {
                name,
                role,
                days,
                code,
            } => {
                let new = NewToken {
                    name,
                    role,
                    days,
                    password: secret("your password: ")?,
                    code,
                };
                let token = client.add_token(&new).await?;
                context.show(&token, |token| {
                    println!("{}", token.token);
                    eprintln!(
                        "Give it to the program as DUPLICARIUM_TOKEN; it is not shown again, and ends {}",
                        text::moment(token.until)
                    );
                })
            }
            Self::End { id } => {
                client.end_pass(id).await?;
                context.done(&format!("pass {id} opens nothing any more"))
            }
        }
    }
}
