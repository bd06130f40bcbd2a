//! Memory at an address that a block device takes directly.

/// Every block device takes memory at such addresses, and pieces of such a length.
const ALIGN: usize = 4096;

/// Bytes that begin at a multiple of [`ALIGN`].
pub struct Aligned {
    memory: Vec<u8>,
    start: usize,
    len: usize,
}

impl Aligned {
    /// Zeros.
    pub fn new(len: usize) -> Self {
        let memory = vec![0; len + ALIGN];
        let start = memory.as_ptr().align_offset(ALIGN);
        Self { memory, start, len }
    }

    /// The bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.memory[self.start..self.start + self.len]
    }

    /// The bytes, to be changed.
    pub fn bytes_mut(&mut self) -> &mut [u8] {
        &mut self.memory[self.start..self.start + self.len]
    }

    /// The same memory with another length, if there is enough of it.
    pub fn resized(mut self, len: usize) -> Self {
        if self.start + len > self.memory.len() {
            return Self::new(len);
        }
        self.len = len;
        self
    }
}

/// Whether bytes lie where a device takes them.
pub fn is_aligned(bytes: &[u8]) -> bool {
    bytes.as_ptr().align_offset(ALIGN) == 0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn memory_lies_where_a_device_takes_it() {
        for len in [1, 512, 4096, 1 << 20] {
            let buffer = Aligned::new(len);
            assert!(is_aligned(buffer.bytes()));
            assert_eq!(buffer.bytes().len(), len);
            let shorter = buffer.resized(len / 2);
            assert!(is_aligned(shorter.bytes()));
            assert_eq!(shorter.bytes().len(), len / 2);
            assert_eq!(shorter.resized(len * 3).bytes().len(), len * 3);
        }
    }
}
