//! Numbers and texts one after the other, as blocks of the ledger, and of what is kept in memory, have them: numbers are of variable
//! length (LEB128, those that may be negative in zigzag), as protocol buffers have them, and stand in front of texts as their lengths.

use integer_encoding::VarInt;

/// Bytes being written.
#[derive(Debug, Default)]
pub(crate) struct ByteWriter(pub(crate) Vec<u8>);

impl ByteWriter {
    pub(crate) fn number(&mut self, number: impl VarInt) {
        let mut room = [0; 10];
        let used = number.encode_var(&mut room);
        self.0.extend_from_slice(room.get(..used).unwrap_or_default());
    }

    pub(crate) fn text(&mut self, text: &[u8]) {
        self.number(text.len());
        self.0.extend_from_slice(text);
    }

    /// A text as it differs from the one before it, which becomes this one: how many bytes they share, and the rest.
    pub(crate) fn after(&mut self, before: &mut Vec<u8>, text: &[u8]) {
        let shared = before.iter().zip(text).take_while(|(one, other)| one == other).count();
        self.number(shared);
        self.text(text.get(shared..).unwrap_or_default());
        text.clone_into(before);
    }
}

/// Bytes being read. Nothing is answered where they are not what was asked for.
#[derive(Debug)]
pub(crate) struct ByteReader<'b>(pub(crate) &'b [u8]);

impl<'b> ByteReader<'b> {
    pub(crate) fn take(&mut self, length: usize) -> Option<&'b [u8]> {
        let (taken, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(taken)
    }

    pub(crate) fn number<N: VarInt>(&mut self) -> Option<N> {
        let (number, used) = N::decode_var(self.0)?;
        self.take(used)?;
        Some(number)
    }

    pub(crate) fn text(&mut self) -> Option<&'b [u8]> {
        let length = self.number()?;
        self.take(length)
    }

    /// What [`ByteWriter::after`] wrote.
    pub(crate) fn after(&mut self, before: &[u8]) -> Option<Vec<u8>> {
        let shared = self.number()?;
        let mut text = before.get(..shared)?.to_owned();
        text.extend_from_slice(self.text()?);
        Some(text)
    }
}
