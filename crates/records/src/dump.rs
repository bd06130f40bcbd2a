//! The records as a whole: written out by PostgreSQL's own program, and read in again on another computer.

use std::io::{self, Read, Write};
use std::process::{Command, Stdio};

use crate::own_server::find_programs;

/// Why the records could not be written out or read in.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DumpError {
    /// The address of the database makes no sense.
    #[error("the address of the database is none: {0}")]
    Address(String),
    /// A program is not there or failed.
    #[error("{program} failed: {said}")]
    Program {
        /// Which.
        program: &'static str,
        /// What it said.
        said: String,
    },
    /// What it said could not be passed on.
    #[error("{0}")]
    Passing(io::Error),
}

/// A program of PostgreSQL for a database, whose password no list of processes shows.
fn program(name: &'static str, address: &str) -> Result<Command, DumpError> {
    let url: url::Url = address
        .parse()
        .map_err(|_| DumpError::Address("it is no URL".into()))?;
    let plain = |text: &str| {
        let decoded = percent_encoding::percent_decode_str(text).decode_utf8();
        decoded.map(|text| text.into_owned()).unwrap_or_default()
    };
    let path = find_programs(None).map(|dir| dir.join(name));
    let mut command = Command::new(path.unwrap_or_else(|| name.into()));
    command
        .env("PGHOST", url.host_str().unwrap_or("127.0.0.1"))
        .env("PGPORT", url.port().unwrap_or(5432).to_string())
        .env("PGUSER", plain(url.username()))
        .env("PGDATABASE", plain(url.path().trim_start_matches('/')))
        .env("LC_ALL", "C")
        .current_dir("/")
        .stderr(Stdio::piped());
    if let Some(password) = url.password() {
        command.env("PGPASSWORD", plain(password));
    }
    for (key, value) in url.query_pairs() {
        if key == "sslmode" {
            command.env("PGSSLMODE", value.as_ref());
        }
    }
    Ok(command)
}

fn failed(program: &'static str) -> impl Fn(io::Error) -> DumpError {
    move |e| DumpError::Program {
        program,
        said: e.to_string(),
    }
}

/// The last of what a program complained about, in one line.
fn complaint(mut stderr: impl Read) -> String {
    let mut said = String::new();
    let _ = stderr.by_ref().take(64 << 10).read_to_string(&mut said);
    let lines: Vec<_> = said.lines().rev().take(4).collect();
    lines.into_iter().rev().collect::<Vec<_>>().join(" ")
}

/// Writes all records out as SQL, as they are at one moment, and hands them on piece by piece. Blocks.
///
/// # Errors
/// [`DumpError`]; what was handed on until then is not whole.
pub fn dump(
    address: &str,
    mut give: impl FnMut(&[u8]) -> io::Result<()>,
) -> Result<u64, DumpError> {
    const PROGRAM: &str = "pg_dump";
    let mut command = program(PROGRAM, address)?;
    command.args(["--no-owner", "--no-privileges", "--encoding=UTF8"]);
    let mut child = command
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .spawn()
        .map_err(failed(PROGRAM))?;
    let (mut out, errors) = (child.stdout.take(), child.stderr.take());
    let said = std::thread::spawn(move || errors.map(complaint).unwrap_or_default());
    let (mut total, mut piece) = (0, vec![0; 128 << 10]);
    let mut passed = Ok(());
    while let Some(out) = &mut out {
        let len = out.read(&mut piece).map_err(failed(PROGRAM))?;
        if len == 0 {
            break;
        }
        total += len as u64;
        passed = give(&piece[..len]);
        if passed.is_err() {
            let _ = child.kill();
            break;
        }
    }
    drop(out);
    let status = child.wait().map_err(failed(PROGRAM))?;
    passed.map_err(DumpError::Passing)?;
    match status.success() {
        true => Ok(total),
        false => Err(DumpError::Program {
            program: PROGRAM,
            said: said.join().unwrap_or_default(),
        }),
    }
}

/// Reads records in that were written out, into a database that is empty; all of them or none. Blocks.
///
/// # Errors
/// [`DumpError`].
pub fn restore(address: &str, from: &mut dyn Read) -> Result<(), DumpError> {
    const PROGRAM: &str = "psql";
    let mut command = program(PROGRAM, address)?;
    command.args([
        "--no-psqlrc",
        "--quiet",
        "--single-transaction",
        "--set=ON_ERROR_STOP=1",
        "--output=/dev/null",
    ]);
    let mut child = command
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .map_err(failed(PROGRAM))?;
    let (input, errors) = (child.stdin.take(), child.stderr.take());
    let said = std::thread::spawn(move || errors.map(complaint).unwrap_or_default());
    let mut passed = Ok(());
    if let Some(mut input) = input {
        // A program that stopped reading says why itself.
        passed = io::copy(from, &mut input).and_then(|_| input.flush());
    }
    let status = child.wait().map_err(failed(PROGRAM))?;
    if !status.success() {
        return Err(DumpError::Program {
            program: PROGRAM,
            said: said.join().unwrap_or_default(),
        });
    }
    passed.map_err(DumpError::Passing)
}
