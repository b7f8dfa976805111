//! Framing: the start and end of a frame in a byte stream.

use crate::evaluate::EvaluationError;

/// How frames are delimited in a stream.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Framing {
    /// No framing: the fields of the frame determine its length.
    None,
    /// Each transfer on the bus is a frame.
    Transfer,
    /// Each frame has this many bytes.
    Fixed(usize),
    /// Each ends with these bytes.
    Delimited(Vec<u8>),
    /// Each frame is enclosed by two markers.
    Marked {
        /// Before it; not empty.
        start: Vec<u8>,
        /// The marker after a frame; not empty.
        end: Vec<u8>,
        /// The escape byte before a byte that equals a marker or the escape byte, and the value
        /// that such a byte is XORed with.
        escape: Option<(u8, u8)>,
    },
    /// RFC 1055.
    Slip {
        /// Whether an END also precedes each frame.
        leading_end: bool,
    },
    /// Consistent overhead byte stuffing, with a 0 after each frame.
    Cobs,
}

/// The classification of the bytes at the start of a stream.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FrameScan {
    /// A complete frame.
    Frame {
        /// The content of the frame.
        body: Vec<u8>,
        /// Bytes of the stream.
        used: usize,
    },
    /// An incomplete frame: at least this many bytes are missing.
    More(usize),
    /// This many bytes outside of any frame.
    Junk(usize),
}

/// Source: RFC 1055, the protocol's four characters.
const SLIP: (u8, u8, u8, u8) = (0xC0, 0xDB, 0xDC, 0xDD);

fn find(haystack: &[u8], needle: &[u8]) -> Option<usize> {
    memchr::memmem::find(haystack, needle)
}

impl Framing {
    /// Whether frames may span transfers.
    pub fn is_stream(&self) -> bool {
        *self != Self::Transfer
    }

    /// The bytes that go over the wire for a frame.
    ///
    /// # Errors
    /// The content cannot be distinguished from the framing.
    pub fn wrap(&self, body: Vec<u8>) -> Result<Vec<u8>, EvaluationError> {
        let holds_end = || EvaluationError::new("the frame contains its own end marker");
        Ok(match self {
            Self::None | Self::Transfer => body,
            Self::Fixed(len) if body.len() == *len => body,
            Self::Fixed(len) => {
                let words = format!("the frame has {} bytes, but each must have {len}", body.len());
                return Err(EvaluationError::new(words));
            }
            Self::Delimited(end) => {
                if find(&body, end).is_some() {
                    return Err(holds_end());
                }
                [body, end.clone()].concat()
            }
            Self::Marked { start, end, escape } => {
                let body = match escape {
                    Some(escape) => escaped(&body, start, end, *escape),
                    None if find(&body, end).is_some() => {
                        return Err(holds_end());
                    }
                    None => body,
                };
                [&start[..], &body[..], &end[..]].concat()
            }
            Self::Slip { leading_end } => slip(&body, *leading_end),
            Self::Cobs => cobs(&body),
        })
    }

    /// Cuts the first frame off a stream.
    pub fn cut(&self, stream: &[u8]) -> FrameScan {
        match self {
            Self::None | Self::Transfer => match stream {
                [] => FrameScan::More(1),
                _ => FrameScan::Frame { body: stream.to_vec(), used: stream.len() },
            },
            Self::Fixed(len) => match stream.get(..*len) {
                Some(body) => FrameScan::Frame { body: body.to_vec(), used: *len },
                None => FrameScan::More(len - stream.len()),
            },
            Self::Delimited(end) => match find(stream, end) {
                Some(at) => FrameScan::Frame { body: stream[..at].to_vec(), used: at + end.len() },
                None => FrameScan::More(1),
            },
            Self::Marked { start, end, escape } => marked(stream, start, end, *escape),
            Self::Slip { .. } => unslip(stream),
            Self::Cobs => uncobs(stream),
        }
    }
}

fn escaped(body: &[u8], start: &[u8], end: &[u8], (escape, xor): (u8, u8)) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(body.len());
    for byte in body {
        if *byte == escape || start.contains(byte) || end.contains(byte) {
            bytes.extend([escape, byte ^ xor]);
        } else {
            bytes.push(*byte);
        }
    }
    bytes
}

fn marked(stream: &[u8], start: &[u8], end: &[u8], escape: Option<(u8, u8)>) -> FrameScan {
    if stream.len() < start.len() {
        return if start.starts_with(stream) { FrameScan::More(1) } else { FrameScan::Junk(1) };
    }
    if !stream.starts_with(start) {
        return FrameScan::Junk(find(&stream[1..], &start[..1]).map_or(stream.len(), |at| at + 1));
    }
    let inside = &stream[start.len()..];
    let Some(len) = find(inside, end) else { return FrameScan::More(1) };
    let used = start.len() + len + end.len();
    let Some((escape, xor)) = escape else { return FrameScan::Frame { body: inside[..len].to_vec(), used } };
    // Equal markers at both ends: an empty frame between two frames is ignored.
    if len == 0 && start == end {
        return FrameScan::Junk(start.len());
    }
    let mut body = Vec::with_capacity(len);
    let mut bytes = inside[..len].iter();
    while let Some(byte) = bytes.next() {
        match (*byte == escape, bytes.as_slice().first()) {
            (true, Some(next)) => {
                body.push(next ^ xor);
                bytes.next();
            }
            (true, None) => return FrameScan::Junk(used),
            (false, _) => body.push(*byte),
        }
    }
    FrameScan::Frame { body, used }
}

fn slip(body: &[u8], leading_end: bool) -> Vec<u8> {
    let (end, escape, escaped_end, escaped_escape) = SLIP;
    let mut bytes = Vec::with_capacity(body.len() + 2);
    bytes.extend(leading_end.then_some(end));
    for byte in body {
        match *byte {
            byte if byte == end => bytes.extend([escape, escaped_end]),
            byte if byte == escape => bytes.extend([escape, escaped_escape]),
            byte => bytes.push(byte),
        }
    }
    bytes.push(end);
    bytes
}

fn unslip(stream: &[u8]) -> FrameScan {
    let (end, escape, escaped_end, escaped_escape) = SLIP;
    let Some(len) = memchr::memchr(end, stream) else { return FrameScan::More(1) };
    if len == 0 {
        return FrameScan::Junk(1);
    }
    let mut body = Vec::with_capacity(len);
    let mut bytes = stream[..len].iter();
    while let Some(byte) = bytes.next() {
        let byte = match *byte == escape {
            false => *byte,
            true => match bytes.next() {
                Some(next) if *next == escaped_end => end,
                Some(next) if *next == escaped_escape => escape,
                _ => return FrameScan::Junk(len + 1),
            },
        };
        body.push(byte);
    }
    FrameScan::Frame { body, used: len + 1 }
}

/// Source: Cheshire and Baker, "Consistent Overhead Byte Stuffing", 1999.
fn cobs(body: &[u8]) -> Vec<u8> {
    const FULL: usize = 254;
    let mut bytes = Vec::with_capacity(body.len() + 2 + body.len() / FULL);
    let groups: Vec<&[u8]> = body.split(|byte| *byte == 0).collect();
    for (index, group) in groups.iter().enumerate() {
        let mut rest = *group;
        while rest.len() >= FULL {
            bytes.push(0xFF);
            bytes.extend_from_slice(&rest[..FULL]);
            rest = &rest[FULL..];
            // A full group at the very end needs no further one.
            if rest.is_empty() && index + 1 == groups.len() {
                bytes.push(0);
                return bytes;
            }
        }
        bytes.push(u8::try_from(rest.len() + 1).unwrap_or(0xFF));
        bytes.extend_from_slice(rest);
    }
    bytes.push(0);
    bytes
}

fn uncobs(stream: &[u8]) -> FrameScan {
    let Some(len) = memchr::memchr(0, stream) else { return FrameScan::More(1) };
    if len == 0 {
        return FrameScan::Junk(1);
    }
    let mut body = Vec::with_capacity(len);
    let mut rest = &stream[..len];
    while let Some((code, after)) = rest.split_first() {
        let count = usize::from(*code) - 1;
        let Some(group) = after.get(..count) else { return FrameScan::Junk(len + 1) };
        body.extend_from_slice(group);
        rest = &after[count..];
        if *code != 0xFF && !rest.is_empty() {
            body.push(0);
        }
    }
    FrameScan::Frame { body, used: len + 1 }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn marks(escape: Option<(u8, u8)>) -> Framing {
        Framing::Marked { start: vec![0x02], end: vec![0x03], escape }
    }

    /// Examples from RFC 1055 and from the paper on byte stuffing.
    #[test]
    fn the_published_examples() {
        let slip = Framing::Slip { leading_end: true };
        assert_eq!(slip.wrap(vec![1, 0xC0, 0xDB, 2]).unwrap(), [0xC0, 1, 0xDB, 0xDC, 0xDB, 0xDD, 2, 0xC0]);
        for (body, wire) in [
            (&[0x00][..], &[0x01, 0x01, 0x00][..]),
            (&[0x00, 0x00], &[0x01, 0x01, 0x01, 0x00]),
            (&[0x11, 0x22, 0x00, 0x33], &[0x03, 0x11, 0x22, 0x02, 0x33, 0x00]),
            (&[0x11, 0x22, 0x33, 0x44], &[0x05, 0x11, 0x22, 0x33, 0x44, 0x00]),
            (&[0x11, 0x00, 0x00, 0x00], &[0x02, 0x11, 0x01, 0x01, 0x01, 0x00]),
        ] {
            assert_eq!(Framing::Cobs.wrap(body.to_vec()).unwrap(), wire);
        }
        let long: Vec<u8> = (1..=254).collect();
        let wire = Framing::Cobs.wrap(long.clone()).unwrap();
        assert_eq!((wire.len(), wire[0], wire[255]), (256, 0xFF, 0));
    }

    #[test]
    fn what_is_no_frame_is_junk() {
        assert_eq!(marks(None).cut(b"ab\x02x\x03"), FrameScan::Junk(2));
        assert_eq!(marks(Some((0x10, 0x40))).cut(&[2, 0x10, 3]), FrameScan::Junk(3));
        assert_eq!(Framing::Slip { leading_end: true }.cut(&[0xC0, 1, 0xC0]), FrameScan::Junk(1));
        assert_eq!(Framing::Slip { leading_end: true }.cut(&[0xDB, 1, 0xC0]), FrameScan::Junk(3));
        assert_eq!(Framing::Cobs.cut(&[5, 1, 0]), FrameScan::Junk(3));
        for framing in [Framing::None, Framing::Transfer] {
            assert_eq!(framing.cut(&[]), FrameScan::More(1));
            assert_eq!(framing.cut(&[1, 2]), FrameScan::Frame { body: vec![1, 2], used: 2 });
        }
        assert_eq!(Framing::Fixed(3).cut(&[1]), FrameScan::More(2));
        assert_eq!(Framing::Fixed(3).cut(&[1, 2, 3, 4]), FrameScan::Frame { body: vec![1, 2, 3], used: 3 });
        assert!(marks(None).wrap(vec![3]).is_err());
        assert!(Framing::Delimited(b"\r\n".to_vec()).wrap(b"a\r\nb".to_vec()).is_err());
        assert!(Framing::Fixed(4).wrap(vec![0; 3]).is_err());
    }

    proptest! {
        /// Wrapped frames are recovered, also after the remains of others, and no prefix of a
        /// frame is taken for the whole.
        #[test]
        fn frames_come_out_as_they_went_in(body in proptest::collection::vec(any::<u8>(), 1..600), cut in 0usize..600) {
            for framing in [
                marks(Some((0x10, 0x40))),
                Framing::Slip { leading_end: false },
                Framing::Cobs,
                Framing::Fixed(body.len()),
            ] {
                let mut wire = framing.wrap(body.clone()).unwrap();
                let len = wire.len();
                let partial = framing.cut(&wire[..cut % len]);
                prop_assert!(matches!(partial, FrameScan::More(_)), "{framing:?}: {partial:?}");
                wire.extend([7, 7]);
                prop_assert_eq!(framing.cut(&wire), FrameScan::Frame { body: body.clone(), used: len });
            }
        }
    }
}
