//! The radio of the service's own computer: which networks it hears, and how it joins the one that a board opens for its
//! first settings. It is spoken to through a program that whoever runs the service has named, because each system has
//! its own; `docs/running.md` says what that program is asked.

use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

use tokio::io::AsyncReadExt;
use tokio::process::Command;

/// How long hearing around, and how long joining and leaving may take.
const HEARS: Duration = Duration::from_secs(20);
const JOINS: Duration = Duration::from_secs(45);
/// Most that the program may say, in bytes.
const WORDS: u64 = 64 << 10;
/// Longest name of a network, in bytes (IEEE 802.11).
const NAME: usize = 32;

/// A network that is heard.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Heard {
    /// Its name, as it is sent.
    pub name: String,
    /// How strong it is, of 100.
    pub strength: u8,
}

/// The radio.
#[derive(Clone, Debug)]
pub struct Radio {
    program: PathBuf,
}

impl Radio {
    /// Through this program.
    pub fn through(program: PathBuf) -> Self {
        Self { program }
    }

    /// Runs the program; gives what it printed.
    async fn ask(&self, words: &[&str], patience: Duration) -> Result<String, String> {
        let shown = self.program.display();
        let mut child = Command::new(&self.program)
            .args(words)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .map_err(|e| format!("{shown} cannot be run: {e}"))?;
        let (out, err) = (child.stdout.take(), child.stderr.take());
        let said = async {
            let (mut said, mut complaint) = (Vec::new(), Vec::new());
            let reads = async {
                if let Some(out) = out {
                    out.take(WORDS).read_to_end(&mut said).await?;
                }
                std::io::Result::Ok(())
            };
            let complains = async {
                if let Some(err) = err {
                    err.take(WORDS).read_to_end(&mut complaint).await?;
                }
                std::io::Result::Ok(())
            };
            tokio::try_join!(reads, complains)?;
            Ok::<_, std::io::Error>((child.wait().await?, said, complaint))
        };
        let ended = tokio::time::timeout(patience, said).await;
        let seconds = patience.as_secs();
        let (status, said, complaint) = ended
            .map_err(|_| format!("{shown} did not end within {seconds} seconds"))?
            .map_err(|e| format!("{shown}: {e}"))?;
        if status.success() {
            return Ok(String::from_utf8_lossy(&said).into_owned());
        }
        let complaint = String::from_utf8_lossy(&complaint);
        let last = complaint.lines().rev().find(|line| !line.trim().is_empty());
        Err(match last {
            Some(line) => line.trim().chars().take(300).collect(),
            None => format!("{shown} ended with {status}"),
        })
    }

    /// The networks that are heard now, the strongest first.
    ///
    /// # Errors
    /// A sentence, where the program fails.
    pub async fn hears(&self) -> Result<Vec<Heard>, String> {
        Ok(read(&self.ask(&["hears"], HEARS).await?))
    }

    /// Joins a network that takes no passphrase. Gives the address and port at which what is in it is reached from here,
    /// where that is not its own.
    ///
    /// # Errors
    /// A sentence, where the program fails; nothing may be left joined then, or it may: leave it.
    pub async fn joins(&self, network: &str) -> Result<Option<String>, String> {
        let said = self.ask(&["joins", network], JOINS).await?;
        let address = said.lines().next().map(str::trim).unwrap_or_default();
        Ok(Some(address.to_owned()).filter(|address| !address.is_empty()))
    }

    /// Leaves the network that it joined, back to what was before.
    ///
    /// # Errors
    /// A sentence, where the program fails.
    pub async fn leaves(&self) -> Result<(), String> {
        self.ask(&["leaves"], JOINS).await.map(drop)
    }
}

/// Lines of a strength, a blank and a name; what is none is left out.
fn read(text: &str) -> Vec<Heard> {
    let mut all: Vec<Heard> = Vec::new();
    for line in text.lines() {
        let Some((strength, name)) = line.split_once(' ') else {
            continue;
        };
        let Ok(strength @ 0..=100) = strength.parse::<u8>() else {
            continue;
        };
        if name.is_empty() || name.len() > NAME || name.chars().any(char::is_control) {
            continue;
        }
        // One network has several stations: the strongest counts.
        match all.iter_mut().find(|one| one.name == name) {
            Some(known) => known.strength = known.strength.max(strength),
            None => all.push(Heard {
                name: name.into(),
                strength,
            }),
        }
    }
    all.sort_by(|a, b| b.strength.cmp(&a.strength).then(a.name.cmp(&b.name)));
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_networks_or_nothing() {
        let heard = read(
            "40 Saltmarsh-Quay\n90 Quaylink-0B01\n70 Saltmarsh-Quay\n101 loud\n-3 soft\nnone\n5 \n12  blank first\n33 \u{7}bell\n",
        );
        let names: Vec<_> = heard
            .iter()
            .map(|one| (one.strength, one.name.as_str()))
            .collect();
        assert_eq!(
            names,
            [
                (90, "Quaylink-0B01"),
                (70, "Saltmarsh-Quay"),
                (12, " blank first")
            ]
        );
        assert!(read(&format!("50 {}", "x".repeat(33))).is_empty());
    }

    #[tokio::test]
    async fn a_program_that_fails_is_said_in_its_own_words() {
        let dir = tempfile::tempdir().unwrap();
        let program = |words: &str| {
            use std::os::unix::fs::PermissionsExt;
            let path = dir.path().join("radio");
            std::fs::write(&path, format!("#!/bin/sh\n{words}\n")).unwrap();
            std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).unwrap();
            Radio::through(path)
        };
        let radio = program("echo \"10 $1 $2\"; echo 192.0.2.1:80");
        assert_eq!(radio.hears().await.unwrap()[0].name, "hears ");
        assert_eq!(
            radio.joins("Kai Ø; rm").await.unwrap().unwrap(),
            "10 joins Kai Ø; rm",
            "names are words, whatever is in them"
        );
        let radio = program("echo no radio here >&2; exit 3");
        assert_eq!(radio.hears().await.unwrap_err(), "no radio here");
        assert!(radio.leaves().await.is_err());
        let radio = program("yes 50 loud | head -c 60000");
        assert_eq!(radio.hears().await.unwrap().len(), 1);
        let gone = Radio::through("/nowhere/radio".into());
        assert!(gone.hears().await.unwrap_err().contains("/nowhere/radio"));
    }
}
