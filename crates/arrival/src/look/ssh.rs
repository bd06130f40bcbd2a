//! The key of a board's SSH server: the exchange of RFC 4253 by Curve25519 (RFC 8731) as far as the server has
//! proven that it holds its Ed25519 key (RFC 8709). Nobody logs in.

use std::net::SocketAddr;

use ring::agreement::{EphemeralPrivateKey, UnparsedPublicKey, X25519, agree_ephemeral};
use ring::rand::{SecureRandom, SystemRandom};
use ring::signature::{ED25519, UnparsedPublicKey as Signer};
use tokio::io::{AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::TcpStream;

use super::PATIENCE;

const KEXINIT: u8 = 20;
const ECDH_INIT: u8 = 30;
const ECDH_REPLY: u8 = 31;
/// What a server may send before anything is encrypted, in bytes a packet.
const MOST_PACKET: usize = 35_000;
const OURS: &str = "SSH-2.0-Duplicarium";

/// Fingerprint of the key of the SSH server at an address: SHA-256 of it, as hex digits.
///
/// # Errors
/// Why it cannot be told, for people.
pub async fn host_key(at: SocketAddr) -> Result<String, String> {
    match tokio::time::timeout(PATIENCE, exchange(at)).await {
        Ok(told) => told,
        Err(_) => Err("its SSH server did not answer in time".into()),
    }
}

fn string(bytes: &[u8]) -> Vec<u8> {
    [&(bytes.len() as u32).to_be_bytes(), bytes].concat()
}

/// A number as SSH writes it: without zeros in front, but for one before a high bit.
fn number(bytes: &[u8]) -> Vec<u8> {
    let zeros = bytes.iter().take_while(|byte| **byte == 0).count();
    let digits = &bytes[zeros..];
    match digits.first() {
        Some(first) if *first >= 0x80 => string(&[&[0], digits].concat()),
        _ => string(digits),
    }
}

/// Takes a string off the front.
fn take<'a>(bytes: &mut &'a [u8]) -> Option<&'a [u8]> {
    let (len, rest) = bytes.split_first_chunk::<4>()?;
    let (found, behind) = rest.split_at_checked(u32::from_be_bytes(*len) as usize)?;
    *bytes = behind;
    Some(found)
}

fn packet(payload: &[u8]) -> Vec<u8> {
    let padding = 8 - (payload.len() + 5) % 8;
    let padding = if padding < 4 { padding + 8 } else { padding };
    let len = (payload.len() + padding + 1) as u32;
    [
        &len.to_be_bytes(),
        [padding as u8].as_slice(),
        payload,
        &vec![0; padding],
    ]
    .concat()
}

async fn receive(stream: &mut (impl AsyncReadExt + Unpin)) -> Result<Vec<u8>, String> {
    let broke = |e: std::io::Error| format!("its SSH server broke off ({e})");
    let len = stream.read_u32().await.map_err(broke)? as usize;
    let padding = usize::from(stream.read_u8().await.map_err(broke)?);
    if len > MOST_PACKET || len < padding + 2 {
        return Err("its SSH server says nonsense".into());
    }
    let mut payload = vec![0; len - 1];
    stream.read_exact(&mut payload).await.map_err(broke)?;
    payload.truncate(len - 1 - padding);
    Ok(payload)
}

/// The line with which a server begins; what stands before it is passed over.
async fn greeting(stream: &mut (impl AsyncReadExt + Unpin)) -> Result<String, String> {
    let mut line = Vec::new();
    for _ in 0..8192 {
        match stream.read_u8().await {
            Ok(b'\n') if line.starts_with(b"SSH-2.0-") => {
                let line = String::from_utf8_lossy(&line);
                return Ok(line.trim_end_matches('\r').to_owned());
            }
            Ok(b'\n') => line.clear(),
            Ok(byte) => line.push(byte),
            Err(_) => break,
        }
    }
    Err("what answers at its SSH port is no SSH server".into())
}

fn our_wishes() -> Result<Vec<u8>, String> {
    let mut cookie = [0; 16];
    SystemRandom::new()
        .fill(&mut cookie)
        .map_err(|_| "no random numbers are to be had".to_owned())?;
    let lists = [
        "curve25519-sha256",
        "ssh-ed25519",
        "aes256-ctr,aes128-ctr",
        "aes256-ctr,aes128-ctr",
        "hmac-sha2-256",
        "hmac-sha2-256",
        "none",
        "none",
        "",
        "",
    ];
    let lists: Vec<u8> = lists
        .iter()
        .flat_map(|list| string(list.as_bytes()))
        .collect();
    Ok([[KEXINIT].as_slice(), &cookie, &lists, &[0; 5]].concat())
}

async fn exchange(at: SocketAddr) -> Result<String, String> {
    let no = |_| "no SSH server answers".to_owned();
    let stream = TcpStream::connect(at).await.map_err(no)?;
    let mut stream = BufReader::new(stream);
    let theirs = greeting(&mut stream).await?;
    let wishes = our_wishes()?;
    let broke = |e: std::io::Error| format!("its SSH server broke off ({e})");
    let hello = [format!("{OURS}\r\n").into_bytes(), packet(&wishes)].concat();
    stream.write_all(&hello).await.map_err(broke)?;
    let their_wishes = receive(&mut stream).await?;
    if their_wishes.first() != Some(&KEXINIT) {
        return Err("its SSH server says nonsense".into());
    }
    let failed = |_| "no key could be made".to_owned();
    let secret = EphemeralPrivateKey::generate(&X25519, &SystemRandom::new()).map_err(failed)?;
    let public = secret.compute_public_key().map_err(failed)?;
    let init = [[ECDH_INIT].as_slice(), &string(public.as_ref())].concat();
    stream.write_all(&packet(&init)).await.map_err(broke)?;
    let reply = receive(&mut stream).await?;
    let none = "its SSH server has no Ed25519 key";
    let Some((&ECDH_REPLY, mut rest)) = reply.split_first() else {
        return Err(none.into());
    };
    let parts = (take(&mut rest), take(&mut rest), take(&mut rest));
    let (Some(key), Some(their_public), Some(mut signature)) = parts else {
        return Err(none.into());
    };
    let their = UnparsedPublicKey::new(&X25519, their_public);
    let signed = agree_ephemeral(secret, &their, |shared| {
        let whole = [
            string(OURS.as_bytes()),
            string(theirs.as_bytes()),
            string(&wishes),
            string(&their_wishes),
            string(key),
            string(public.as_ref()),
            string(their_public),
            number(shared),
        ];
        ring::digest::digest(&ring::digest::SHA256, &whole.concat())
    });
    let signed = signed.map_err(|_| "its SSH server says nonsense".to_owned())?;
    let mut of_key = key;
    let kinds = (take(&mut of_key), take(&mut signature));
    let (Some(b"ssh-ed25519"), Some(b"ssh-ed25519")) = kinds else {
        return Err(none.into());
    };
    let (Some(raw), Some(proof)) = (take(&mut of_key), take(&mut signature)) else {
        return Err(none.into());
    };
    let proven = Signer::new(&ED25519, raw).verify(signed.as_ref(), proof);
    proven.map_err(|_| "its SSH server shows a key that it does not hold".to_owned())?;
    Ok(hex::encode(ring::digest::digest(
        &ring::digest::SHA256,
        key,
    )))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_written_as_the_standard_says() {
        assert_eq!(number(&[0, 0, 0x7f]), [0, 0, 0, 1, 0x7f]);
        assert_eq!(number(&[0, 0x80]), [0, 0, 0, 2, 0, 0x80]);
        assert_eq!(number(&[0]), [0, 0, 0, 0]);
    }

    #[test]
    fn packets_are_whole_blocks_with_room_behind() {
        for len in 0..64 {
            let packet = packet(&vec![7; len]);
            assert_eq!(packet.len() % 8, 0, "{len}");
            assert!(packet[4] >= 4, "{len}");
        }
    }
}
