//! Work that adds to the vault gathers what it adds in segments.

use imagecraft::packed::Packer;
use std::collections::HashMap;
use std::sync::Arc;

use crate::error::VaultError;
use crate::hold::Hold;
use crate::keys::Name;
use crate::piece::Kind;
use crate::segment::{self, HEAD, Row, SEGMENT};
use crate::store::{Growth, Vault};

/// Gathers sealed pieces into segments. What was put counts as stored after [`Writer::flush`].
pub(crate) struct Writer<'h> {
    hold: &'h Hold,
    packer: Packer,
    segment: Vec<u8>,
    rows: Vec<Row>,
    /// What is stored a second time, in a segment of its own.
    copies: Vec<u8>,
    copied: Vec<Row>,
    pending: HashMap<Name, ()>,
    growth: Growth,
}

impl<'h> Writer<'h> {
    /// Starts a run of additions.
    pub fn new(hold: &'h Hold) -> Self {
        Self {
            hold,
            packer: Packer::default(),
            segment: Vec::new(),
            rows: Vec::new(),
            copies: Vec::new(),
            copied: Vec::new(),
            pending: HashMap::new(),
            growth: Growth::default(),
        }
    }

    /// The vault that it adds to.
    pub fn vault(&self) -> &Arc<Vault> {
        self.hold.vault()
    }

    /// Relies on content, if it is there.
    pub fn rely(&self, name: Name) -> bool {
        self.hold.has(name)
    }

    /// Adds content unless it is there.
    pub fn put(&mut self, kind: Kind, bytes: &[u8]) -> Result<Name, VaultError> {
        let name = self.hold.vault().name(kind, bytes);
        if !self.pending.contains_key(&name) && !self.hold.has(name) {
            let vault = self.hold.vault().clone();
            let sealed = vault.seal(kind, name, bytes, &mut self.packer)?;
            self.put_sealed(kind, name, &sealed)?;
        }
        Ok(name)
    }

    /// Adds content that is sealed already, unless it is there.
    pub fn put_sealed(&mut self, kind: Kind, name: Name, sealed: &[u8]) -> Result<(), VaultError> {
        if self.pending.contains_key(&name) || self.hold.has(name) {
            return Ok(());
        }
        self.pending.insert(name, ());
        let head = segment::head(self.hold.vault().keys.newest());
        if self.segment.is_empty() {
            self.segment.reserve(HEAD + sealed.len());
            self.segment.extend(head);
        }
        let row = segment::append(&mut self.segment, kind, name, sealed);
        self.rows.push(row);
        self.growth.new += 1;
        let mut stored = u64::from(row.len) + segment::PIECE_HEAD as u64;
        if kind.lies_twice() {
            if self.copies.is_empty() {
                self.copies.extend(head);
            }
            let row = segment::append(&mut self.copies, kind, name, sealed);
            self.copied.push(row);
            stored *= 2;
        }
        self.growth.stored += stored;
        if self.segment.len() >= SEGMENT || self.copies.len() >= SEGMENT {
            self.flush()?;
        }
        Ok(())
    }

    /// Stores what is still held; returns when it is on the medium.
    pub fn flush(&mut self) -> Result<(), VaultError> {
        if self.rows.is_empty() {
            return Ok(());
        }
        let segment = std::mem::take(&mut self.segment);
        let (number, id) = self.vault().commit(segment, &self.rows)?;
        self.hold.made(number, id);
        if !self.copied.is_empty() {
            let copies = std::mem::take(&mut self.copies);
            let (number, id) = self.vault().commit(copies, &self.copied)?;
            self.hold.made(number, id);
        }
        self.rows.clear();
        self.copied.clear();
        self.pending.clear();
        Ok(())
    }

    /// What was added so far, whether or not it is all that was wanted.
    pub fn growth(&self) -> Growth {
        self.growth
    }
}

/// Keeps a text beside a manifest, for those who find the vault without its records: what it is, whose, of when.
/// It counts as stored when this returns.
///
/// # Errors
/// What the store says.
pub fn note(hold: &Hold, text: &str) -> Result<Name, VaultError> {
    let mut writer = Writer::new(hold);
    let name = writer.put(Kind::Note, text.as_bytes())?;
    writer.flush()?;
    Ok(name)
}
