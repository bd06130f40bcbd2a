//! The SSH server of a board, as far as it shows its key and proves that it holds it (RFC 4253, RFC 8731, RFC 8709).
//! Nobody gets in.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::time::Duration;

use ring::agreement::{EphemeralPrivateKey, UnparsedPublicKey, X25519, agree_ephemeral};
use ring::rand::SystemRandom;
use ring::signature::{Ed25519KeyPair, KeyPair};

/// A server with one key.
pub struct Ssh {
    key: Ed25519KeyPair,
}

fn text(bytes: &[u8]) -> Vec<u8> {
    let mut all = (bytes.len() as u32).to_be_bytes().to_vec();
    all.extend_from_slice(bytes);
    all
}

fn send(stream: &mut impl Write, payload: &[u8]) -> io::Result<()> {
    // Length, padding's length and payload fill whole blocks of eight, with four bytes of padding at least.
    let mut padding = 4;
    while !(5 + payload.len() + padding).is_multiple_of(8) {
        padding += 1;
    }
    stream.write_all(&((1 + payload.len() + padding) as u32).to_be_bytes())?;
    stream.write_all(&[padding as u8])?;
    stream.write_all(payload)?;
    stream.write_all(&vec![0; padding])
}

fn receive(stream: &mut impl Read) -> io::Result<Vec<u8>> {
    let mut head = [0; 5];
    stream.read_exact(&mut head)?;
    let len = u32::from_be_bytes([head[0], head[1], head[2], head[3]]) as usize;
    let padding = head[4] as usize;
    if !(padding + 1..=40_000).contains(&len) {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mut rest = vec![0; len - 1];
    stream.read_exact(&mut rest)?;
    rest.truncate(len - 1 - padding);
    Ok(rest)
}

impl Ssh {
    /// With the key that belongs to a seed.
    pub fn new(seed: &[u8; 32]) -> io::Result<Self> {
        let key = Ed25519KeyPair::from_seed_unchecked(seed)
            .map_err(|e| io::Error::other(e.to_string()))?;
        Ok(Self { key })
    }

    /// Shows the key to one visitor.
    pub fn answer(&self, stream: TcpStream) -> io::Result<()> {
        stream.set_read_timeout(Some(Duration::from_secs(2)))?;
        let mut write = stream.try_clone()?;
        let mut read = BufReader::new(stream);
        let ours = "SSH-2.0-standin";
        write.write_all(format!("{ours}\r\n").as_bytes())?;
        let mut theirs = String::new();
        read.read_line(&mut theirs)?;
        let lists = [
            "curve25519-sha256",
            "ssh-ed25519",
            "aes256-ctr",
            "aes256-ctr",
            "hmac-sha2-256",
        ];
        let more = ["hmac-sha2-256", "none", "none", "", ""];
        let mut wishes = vec![20];
        wishes.extend([7; 16]);
        for list in lists.iter().chain(&more) {
            wishes.extend(text(list.as_bytes()));
        }
        wishes.extend([0; 5]);
        send(&mut write, &wishes)?;
        let their_wishes = receive(&mut read)?;
        let init = receive(&mut read)?;
        let public = init.get(5..37).ok_or(io::ErrorKind::InvalidData)?.to_vec();
        let random = SystemRandom::new();
        let failed = |_| io::Error::other("no key");
        let secret = EphemeralPrivateKey::generate(&X25519, &random).map_err(failed)?;
        let own = secret.compute_public_key().map_err(failed)?;
        let mut key = text(b"ssh-ed25519");
        key.extend(text(self.key.public_key().as_ref()));
        let mut whole = text(theirs.trim_end().as_bytes());
        whole.extend(text(ours.as_bytes()));
        for part in [
            &their_wishes,
            &wishes,
            &key,
            &public,
            &own.as_ref().to_vec(),
        ] {
            whole.extend(text(part));
        }
        let visitor = UnparsedPublicKey::new(&X25519, &public);
        let signed = agree_ephemeral(secret, &visitor, |shared| {
            let mut shared: &[u8] = shared;
            while shared.first() == Some(&0) {
                shared = &shared[1..];
            }
            let mut number = Vec::new();
            if shared.first().is_some_and(|first| first & 0x80 != 0) {
                number.push(0);
            }
            number.extend_from_slice(shared);
            whole.extend(text(&number));
            ring::digest::digest(&ring::digest::SHA256, &whole)
        });
        let signed = signed.map_err(failed)?;
        let mut proof = text(b"ssh-ed25519");
        proof.extend(text(self.key.sign(signed.as_ref()).as_ref()));
        let mut reply = vec![31];
        for part in [&key, &own.as_ref().to_vec(), &proof] {
            reply.extend(text(part));
        }
        send(&mut write, &reply)
    }
}
