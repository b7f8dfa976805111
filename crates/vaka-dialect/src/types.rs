//! Static types: the type of every expression and the range of integers. Wrong types and unknown
//! names are reported here.

use super::cipher::BLOCK;
use super::expression::{Binary, ChecksumScope, Expression, Function, Node, Part, Unary};
use super::lexer::{Parsed, Problem};
use super::value::{Integer, Name, Value};

/// The type of a value, with the range of an integer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Type {
    /// Minimum and maximum, inclusive.
    Int(i128, i128),
    /// The length, if known.
    Bytes(Option<usize>),
    Truth,
}

/// Integers of unknown range.
pub(super) const ANY_INT: Type = Type::Int(i128::MIN, i128::MAX);

impl Type {
    pub(super) fn words(self) -> &'static str {
        match self {
            Self::Int(..) => "a number",
            Self::Bytes(_) => "bytes",
            Self::Truth => "a comparison",
        }
    }

    pub(super) fn is_like(self, other: Self) -> bool {
        matches!(
            (self, other),
            (Self::Int(..), Self::Int(..)) | (Self::Bytes(_), Self::Bytes(_)) | (Self::Truth, Self::Truth)
        )
    }

    /// Both, for a name that can be either.
    pub(super) fn joined(self, other: Self) -> Self {
        match (self, other) {
            (Self::Int(a, b), Self::Int(c, d)) => Self::Int(a.min(c), b.max(d)),
            (Self::Bytes(a), Self::Bytes(b)) => Self::Bytes(a.filter(|_| a == b)),
            (kind, _) => kind,
        }
    }
}

/// The types of names before anything runs.
pub(super) trait Knowledge {
    /// The type of a name; an error if it is unknown here.
    fn kind(&self, name: Name, at: usize) -> Parsed<Type>;
    /// The name of the number of an item.
    fn nth(&self) -> Name;
    /// Checks that a range of the frame exists.
    fn part(&self, part: Part, at: usize) -> Parsed<()>;
}

/// Knowledge with one more name.
struct With<'a> {
    below: &'a dyn Knowledge,
    name: Name,
    kind: Type,
}

impl Knowledge for With<'_> {
    fn kind(&self, name: Name, at: usize) -> Parsed<Type> {
        if name == self.name { Ok(self.kind) } else { self.below.kind(name, at) }
    }

    fn nth(&self) -> Name {
        self.below.nth()
    }

    fn part(&self, part: Part, at: usize) -> Parsed<()> {
        self.below.part(part, at)
    }
}

/// Maximum number of iterations of `rounds` or `repeat`.
pub(super) const MOST_ROUNDS: i128 = 65_536;

impl Expression {
    /// The type of the value; reports wrong types and unknown names.
    pub(super) fn kind(&self, known: &dyn Knowledge) -> Parsed<Type> {
        match &self.node {
            Node::Value(Value::Int(number)) => Ok(Type::Int(*number, *number)),
            Node::Value(Value::Bytes(bytes)) => Ok(Type::Bytes(Some(bytes.len()))),
            Node::Value(Value::Truth(_)) => Ok(Type::Truth),
            Node::Name(name) => known.kind(*name, self.at),
            Node::Part(part) => known.part(*part, self.at).map(|()| Type::Bytes(None)),
            Node::Unary(Unary::Not, of) => of.truth(known).map(|()| Type::Truth),
            Node::Unary(Unary::Minus, of) => {
                of.int_kind(known).map(|(low, high)| Type::Int(high.saturating_neg(), low.saturating_neg()))
            }
            Node::Unary(Unary::Invert, of) => of.int_kind(known).map(|(low, high)| Type::Int(!high, !low)),
            Node::Binary(operator, left, right) => self.binary_kind(*operator, left, right, known),
            Node::Choice(parts) => {
                let [condition, yes, no] = &**parts;
                condition.truth(known)?;
                let (yes_kind, no_kind) = (yes.kind(known)?, no.kind(known)?);
                if !yes_kind.is_like(no_kind) {
                    let message = format!(
                        "the two sides of this choice have different types: {} and {}",
                        yes_kind.words(),
                        no_kind.words()
                    );
                    return Err(Problem::new(no.at, message));
                }
                Ok(yes_kind.joined(no_kind))
            }
            Node::Call(function, given) => call_kind(function, given, known),
            Node::Map { item, over, each } => {
                let inner = over.kind(known)?;
                let within = With { below: known, name: *item, kind: inner };
                let within = With { below: &within, name: known.nth(), kind: Type::Int(0, i128::from(u32::MAX)) };
                match each.kind(&within)? {
                    Type::Int(low, high) if high < 0 || low > 255 => {
                        Err(Problem::new(each.at, "a byte is 0 to 255; this value never is"))
                    }
                    Type::Truth => {
                        Err(Problem::new(each.at, "each byte must become a number or bytes, not a comparison"))
                    }
                    _ => Ok(Type::Bytes(None)),
                }
            }
            Node::Fold { state, from, item, over, each } => {
                let inner = over.kind(known)?;
                let within = With { below: known, name: *item, kind: inner };
                fold_kind(*state, from, each, &within, known)
            }
            Node::Rounds { count, state, from, each } => {
                let (_, high) = count.int_kind(known)?;
                if high > MOST_ROUNDS {
                    let message = format!(
                        "this may be {high} iterations, but at most {MOST_ROUNDS} are allowed; limit it with min(…, {MOST_ROUNDS})"
                    );
                    return Err(Problem::new(count.at, message));
                }
                fold_kind(*state, from, each, known, known)
            }
        }
    }

    /// The range of an integer expression.
    pub(super) fn int_kind(&self, known: &dyn Knowledge) -> Parsed<(i128, i128)> {
        match self.kind(known)? {
            Type::Int(low, high) => Ok((low, high)),
            other => Err(Problem::new(self.at, format!("expected a number, found {}", other.words()))),
        }
    }

    pub(super) fn bytes_kind(&self, known: &dyn Knowledge) -> Parsed<Option<usize>> {
        match self.kind(known)? {
            Type::Bytes(len) => Ok(len),
            other => Err(Problem::new(self.at, format!("expected bytes, found {}", other.words()))),
        }
    }

    pub(super) fn truth(&self, known: &dyn Knowledge) -> Parsed<()> {
        match self.kind(known)? {
            Type::Truth => Ok(()),
            other => {
                let message = format!("expected a comparison such as x != 0, found {}", other.words());
                Err(Problem::new(self.at, message))
            }
        }
    }

    fn binary_kind(&self, operator: Binary, left: &Self, right: &Self, known: &dyn Knowledge) -> Parsed<Type> {
        use Binary as B;
        match operator {
            B::Or | B::And => {
                left.truth(known)?;
                right.truth(known)?;
                return Ok(Type::Truth);
            }
            B::Equal | B::Unequal => {
                let (a, b) = (left.kind(known)?, right.kind(known)?);
                if !a.is_like(b) {
                    let message = format!("{} is compared with {}", a.words(), b.words());
                    return Err(Problem::new(right.at, message));
                }
                return Ok(Type::Truth);
            }
            B::Join => {
                let (a, b) = (left.bytes_kind(known)?, right.bytes_kind(known)?);
                return Ok(Type::Bytes(a.zip(b).map(|(a, b)| a.saturating_add(b))));
            }
            _ => {}
        }
        let ((a, b), (c, d)) = (left.int_kind(known)?, right.int_kind(known)?);
        let corners = |of: fn(i128, i128) -> i128| {
            let all = [of(a, c), of(a, d), of(b, c), of(b, d)];
            Type::Int(all.into_iter().min().unwrap_or(a), all.into_iter().max().unwrap_or(b))
        };
        // All bits below the highest bit that either operand can have.
        let mask = |number: i128| (u128::MAX >> 1 >> (number.max(0).leading_zeros().max(1) - 1)).cast_signed();
        Ok(match operator {
            B::Less | B::LessOrEqual | B::More | B::MoreOrEqual => Type::Truth,
            B::BitAnd if c >= 0 && a >= 0 => Type::Int(0, b.min(d)),
            B::BitAnd if c >= 0 => Type::Int(0, d),
            B::BitAnd if a >= 0 => Type::Int(0, b),
            B::BitOr | B::BitXor if a >= 0 && c >= 0 => Type::Int(0, mask(b.max(d))),
            B::Left if a >= 0 && c >= 0 && d < 64 => {
                Type::Int(a << c.min(63), b.checked_mul(1_i128 << d).unwrap_or(i128::MAX))
            }
            B::Right if a >= 0 && c >= 0 => Type::Int(a >> d.min(126), b >> c.min(126)),
            B::Add => corners(i128::saturating_add),
            B::Subtract => corners(i128::saturating_sub),
            B::Multiply => corners(i128::saturating_mul),
            B::Divide | B::Remainder if c == 0 && d == 0 => {
                return Err(Problem::new(right.at, "division by 0"));
            }
            B::Divide if a >= 0 && c > 0 => Type::Int(a / d, b / c),
            B::Remainder if a >= 0 && c > 0 => Type::Int(0, b.min(d - 1)),
            _ => ANY_INT,
        })
    }
}

impl ChecksumScope {
    fn kind(&self, known: &dyn Knowledge) -> Parsed<Type> {
        self.bytes.bytes_kind(known)?;
        let Some(by) = &self.by else { return Ok(Type::Int(0, 255)) };
        if by.int_kind(known)?.1 < 1 {
            return Err(Problem::new(by.at, "a piece must have at least one byte"));
        }
        Ok(Type::Bytes(None))
    }
}

fn fold_kind(
    state: Name,
    from: &Expression,
    each: &Expression,
    inside: &dyn Knowledge,
    outside: &dyn Knowledge,
) -> Parsed<Type> {
    let kind = match from.kind(outside)? {
        Type::Int(..) => ANY_INT,
        Type::Bytes(_) => Type::Bytes(None),
        Type::Truth => Type::Truth,
    };
    let within = With { below: inside, name: state, kind };
    let within = With { below: &within, name: inside.nth(), kind: Type::Int(0, i128::from(u32::MAX)) };
    let made = each.kind(&within)?;
    if !made.is_like(kind) {
        let message = format!("its type changes from {} to {}", kind.words(), made.words());
        return Err(Problem::new(each.at, message));
    }
    // The final mask bounds the result, unless there are zero rounds.
    Ok(made.joined(from.kind(outside)?))
}

fn call_kind(function: &Function, given: &[Expression], known: &dyn Knowledge) -> Parsed<Type> {
    use Function as F;
    let int = |index: usize| given[index].int_kind(known);
    let bytes = |index: usize| given[index].bytes_kind(known);
    const WORD: i128 = u64::MAX as i128;
    const LENGTH: i128 = u32::MAX as i128;
    Ok(match function {
        F::Len => bytes(0)?.map_or(Type::Int(0, WORD), |len| Type::Int(len as i128, len as i128)),
        F::Sum => bytes(0).map(|_| Type::Int(0, WORD))?,
        F::Xor => bytes(0).map(|_| Type::Int(0, 255))?,
        F::Crc32 => bytes(0).map(|_| Type::Int(0, LENGTH))?,
        F::Crc(crc) => bytes(0).map(|_| Type::Int(0, i128::from(crc.highest())))?,
        F::Md5 => bytes(0).map(|_| Type::Bytes(Some(16)))?,
        F::Sha1 => bytes(0).map(|_| Type::Bytes(Some(20)))?,
        F::Sha256 => bytes(0).map(|_| Type::Bytes(Some(32)))?,
        F::HmacSha1 => bytes(0).and(bytes(1)).map(|_| Type::Bytes(Some(20)))?,
        F::HmacSha256 => bytes(0).and(bytes(1)).map(|_| Type::Bytes(Some(32)))?,
        F::AesCmac | F::AesEcb(_) | F::AesCbc(_) => return cipher_kind(function, given, known),
        F::Base64 => Type::Bytes(bytes(0)?.map(|len| len.div_ceil(3) * 4)),
        F::Deflate | F::Zlib | F::Inflate | F::Runs => bytes(0).map(|_| Type::Bytes(None))?,
        F::ReadBase64 => bytes(0).map(|_| Type::Bytes(None))?,
        F::Byte => {
            bytes(0)?;
            int(1).map(|_| Type::Int(0, 255))?
        }
        F::Slice => {
            bytes(0)?;
            int(1)?;
            let (low, high) = int(2)?;
            Type::Bytes(usize::try_from(low).ok().filter(|_| low == high))
        }
        F::Le | F::Be => match bytes(0)? {
            Some(len) if len > 8 => return Err(Problem::new(given[0].at, "a number may have at most 8 bytes")),
            Some(len) => Type::Int(0, (1_i128 << (len * 8)) - 1),
            None => Type::Int(0, WORD),
        },
        F::Min => {
            let ((a, b), (c, d)) = (int(0)?, int(1)?);
            Type::Int(a.min(c), b.min(d))
        }
        F::Max => {
            let ((a, b), (c, d)) = (int(0)?, int(1)?);
            Type::Int(a.max(c), b.max(d))
        }
        F::Pad => {
            let (len, (low, high), _) = (bytes(0)?, int(1)?, byte_value(&given[2], known)?);
            let to = usize::try_from(low).ok().filter(|_| low == high);
            Type::Bytes(len.zip(to).map(|(len, to)| len.max(to)))
        }
        F::Fill => {
            let (low, high) = int(0)?;
            byte_value(&given[1], known)?;
            Type::Bytes(usize::try_from(low).ok().filter(|_| low == high))
        }
        F::Reverse => Type::Bytes(bytes(0)?),
        F::Hex | F::LowerHex | F::Dec => {
            int(0)?;
            if given.len() == 2 {
                int(1)?;
            }
            Type::Bytes(None)
        }
        F::ReadHex | F::ReadDec => bytes(0).map(|_| Type::Int(0, WORD))?,
        F::Number(integer) => {
            fits(&given[0], *integer, known)?;
            Type::Bytes(Some(integer.bytes))
        }
    })
}

/// Checks the lengths of a key, an initial value and the bytes of AES, as far as they are known.
fn cipher_kind(function: &Function, given: &[Expression], known: &dyn Knowledge) -> Parsed<Type> {
    let lengths: Vec<Option<usize>> = given.iter().map(|one| one.bytes_kind(known)).collect::<Parsed<_>>()?;
    if let Some(len) = lengths[0].filter(|len| !matches!(len, 16 | 32)) {
        return Err(Problem::new(given[0].at, format!("a key of AES has 16 or 32 bytes, not {len}")));
    }
    if matches!(function, Function::AesCmac) {
        return Ok(Type::Bytes(Some(BLOCK)));
    }
    if let (Function::AesCbc(_), Some(len)) = (function, lengths[1].filter(|len| *len != BLOCK)) {
        return Err(Problem::new(given[1].at, format!("the initial value has {BLOCK} bytes, not {len}")));
    }
    let (bytes, at) = (lengths[lengths.len() - 1], given[given.len() - 1].at);
    match bytes {
        Some(len) if len % BLOCK != 0 => {
            Err(Problem::new(at, format!("AES works on blocks of {BLOCK} bytes, but this has {len}; pad it first")))
        }
        bytes => Ok(Type::Bytes(bytes)),
    }
}

fn byte_value(of: &Expression, known: &dyn Knowledge) -> Parsed<()> {
    match of.int_kind(known)? {
        (low, high) if high < 0 || low > 255 => Err(Problem::new(of.at, "a byte is 0 to 255; this value never is")),
        _ => Ok(()),
    }
}

/// Checks that a number can fit into a form, and that a constant does.
pub(super) fn fits(of: &Expression, form: Integer, known: &dyn Knowledge) -> Parsed<()> {
    let (low, high) = of.int_kind(known)?;
    let (least, most) = form.range();
    if high < least || low > most {
        let value = if low == high { format!("{low} (0x{low:X})") } else { format!("a number of at least {low}") };
        return Err(Problem::new(of.at, format!("{form} can represent {least} to {most}; {value} does not fit")));
    }
    Ok(())
}
