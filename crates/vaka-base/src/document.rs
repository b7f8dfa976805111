//! Reads TOML documents and reports all findings at once, in words.

use std::ops::Range;

use serde::de::DeserializeOwned;

use crate::text::sanitize;

/// Maximum number of findings. Chosen by us: more do not help.
pub const MOST_FINDINGS: usize = 30;

/// Largest document: 256 KiB. Chosen by us: more than ten times the largest description.
pub const MOST_BYTES: usize = 256 << 10;

/// Bytes that are read in search of further findings: each correction reads the document again.
/// Chosen by us: a wrong document takes at most about twice as long as a right one of the same size.
const MOST_WORK: usize = MOST_BYTES;

/// Values that stand for a value that cannot be read, so that reading continues.
const PLACEHOLDERS: [&str; 5] = ["\"x\"", "1", "[]", "false", "{}"];

/// An error in a document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DocumentError {
    /// Position in bytes.
    pub at: usize,
    /// The key that is wrong, unknown or missing.
    pub key: String,
    /// The error and the expected form.
    pub message: String,
}

/// Reads a document. After an error, reading continues with a corrected copy: an unknown key takes
/// the name that was probably meant or is removed, a wrong value becomes a placeholder.
///
/// # Errors
/// All findings, ordered by position.
///
/// # Examples
/// ```
/// #[derive(Debug, serde::Deserialize)]
/// #[serde(deny_unknown_fields)]
/// struct Flash {
///     sectors: u32,
/// }
///
/// let findings = vaka_base::document::read::<Flash>("sectors = \"40\"\nseize = 3\n").unwrap_err();
/// assert_eq!(findings[0].message, "must be a number, found the text \"40\"");
/// assert_eq!(findings[1].key, "seize");
/// ```
pub fn read<T: DeserializeOwned>(text: &str) -> Result<T, Vec<DocumentError>> {
    if text.len() > MOST_BYTES {
        let message = format!("the text has more than {} KiB", MOST_BYTES >> 10);
        return Err(vec![DocumentError { at: 0, key: String::new(), message }]);
    }
    let mut copy = Copy { text: text.to_owned(), edits: Vec::new(), work: MOST_WORK };
    let mut findings = Vec::new();
    loop {
        copy.work = copy.work.saturating_sub(copy.text.len());
        let error = match toml::from_str::<T>(&copy.text) {
            Ok(value) if findings.is_empty() => return Ok(value),
            Ok(_) => break,
            Err(error) => error,
        };
        let span = error.span().unwrap_or(0..0);
        findings.push(copy.finding(&error, span.clone()));
        if findings.len() == MOST_FINDINGS || copy.work == 0 || !copy.correct::<T>(error.message(), &span) {
            break;
        }
    }
    findings.sort_by_key(|finding| finding.at);
    findings.dedup();
    Err(findings)
}

/// The places of line starts in a text.
#[derive(Clone, Debug)]
pub struct LineIndex<'a> {
    text: &'a str,
    starts: Vec<usize>,
}

impl<'a> LineIndex<'a> {
    /// Finds all lines.
    pub fn new(text: &'a str) -> Self {
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        Self { text, starts }
    }

    /// Line and column of a position in bytes, both from 1; a position inside a character counts as
    /// its start.
    ///
    /// # Examples
    /// ```
    /// let lines = vaka_base::document::LineIndex::new("one\ntwö = 3\n");
    /// assert_eq!(lines.position(0), (1, 1));
    /// // The `=` after a character of two bytes.
    /// assert_eq!(lines.position(9), (2, 5));
    /// ```
    pub fn position(&self, at: usize) -> (usize, usize) {
        let line = self.starts.partition_point(|start| *start <= at);
        let start = self.starts[line - 1];
        let before = self.text[start..].char_indices().take_while(|(offset, c)| start + offset + c.len_utf8() <= at);
        (line, before.count() + 1)
    }
}

/// The errors as text, a line for each: ``line 4, key `nmae`: is not a known key``.
pub fn by_line(text: &str, errors: &[DocumentError]) -> String {
    let lines = LineIndex::new(text);
    let line =
        |error: &DocumentError| format!("line {}, key `{}`: {}", lines.position(error.at).0, error.key, error.message);
    errors.iter().map(line).collect::<Vec<_>>().join("\n")
}

/// A corrected copy of a document.
#[derive(Clone)]
struct Copy {
    text: String,
    /// Position and growth of each edit, in order.
    edits: Vec<(usize, isize)>,
    /// Bytes that may still be read.
    work: usize,
}

impl Copy {
    fn replace(&mut self, span: Range<usize>, new: &str) {
        let growth = new.len().cast_signed() - span.len().cast_signed();
        self.text.replace_range(span.clone(), new);
        self.edits.push((span.start, growth));
    }

    /// The position in the original document.
    fn original(&self, mut at: usize) -> usize {
        for (place, growth) in self.edits.iter().rev() {
            if at > *place {
                at = at.saturating_add_signed(-growth).max(*place);
            }
        }
        at
    }

    fn finding(&self, error: &toml::de::Error, span: Range<usize>) -> DocumentError {
        let message = error.message();
        let key = quoted(message, "unknown field `")
            .or_else(|| quoted(message, "missing field `"))
            .map_or_else(|| self.key_of(span.start), str::to_owned);
        DocumentError { at: self.original(span.start), key: sanitize(&key), message: sanitize(&in_words(message)) }
    }

    /// The key of the value at a position.
    fn key_of(&self, at: usize) -> String {
        let line_start = self.text[..at].rfind('\n').map_or(0, |at| at + 1);
        let before = self.text[line_start..at].trim_end().strip_suffix('=').map(str::trim_end);
        let assigned = before.and_then(|before| before.rsplit([' ', '{', ',']).next());
        let line = || self.text[line_start..].split(['\n', '=']).next().unwrap_or_default().trim();
        assigned.unwrap_or_else(line).to_owned()
    }

    /// Corrects one error; false if that is impossible.
    fn correct<T: DeserializeOwned>(&mut self, message: &str, span: &Range<usize>) -> bool {
        if message.starts_with("unknown field `") {
            return self.rename(message, span) || self.remove(span);
        }
        let place = match quoted(message, "missing field `") {
            Some(key) => self.insertion(key, span),
            None if is_of_value(message) && !span.is_empty() => (span.clone(), String::new(), ""),
            None => return false,
        };
        self.try_placeholders::<T>(&place, expected(message).first().filter(|_| message.starts_with("unknown variant")))
    }

    /// Gives an unknown key the name that was probably meant.
    fn rename(&mut self, message: &str, span: &Range<usize>) -> bool {
        let Some(meant) = meant(message) else { return false };
        let mut renamed = self.clone();
        renamed.replace(span.clone(), meant);
        let is_twice = toml::de::DeTable::parse(&renamed.text).is_err();
        if !is_twice {
            *self = renamed;
        }
        !is_twice
    }

    /// Removes an unknown key with its value.
    fn remove(&mut self, key: &Range<usize>) -> bool {
        let value = toml::de::DeTable::parse(&self.text).ok().and_then(|table| value_of(table.get_ref(), key));
        // A table of its own has its header before its value.
        let Some(value) = value.filter(|value| value.start >= key.end) else { return false };
        let mut end = value.end;
        let rest = &self.text[end..];
        if rest.trim_start_matches([' ', '\t']).starts_with(',') {
            end += rest.find(',').unwrap_or(0) + 1;
        }
        let mut removed = self.clone();
        removed.replace(key.start..end, "");
        let is_sound = toml::de::DeTable::parse(&removed.text).is_ok();
        if is_sound {
            *self = removed;
        }
        is_sound
    }

    /// Place and surroundings of a missing key: in a table with a header, in an inline table, or at
    /// the top.
    fn insertion(&self, key: &str, span: &Range<usize>) -> (Range<usize>, String, &'static str) {
        let table = &self.text[span.clone()];
        if let Some(inside) = table.strip_prefix('{') {
            let at = span.start + 1;
            return (at..at, format!("{key} = "), if inside.trim() == "}" { "" } else { ", " });
        }
        let at = if table.is_empty() { 0 } else { span.end };
        let before = if table.is_empty() { String::new() } else { "\n".to_owned() };
        (at..at, format!("{before}{key} = "), "\n")
    }

    /// Inserts the first placeholder that the reader accepts.
    fn try_placeholders<T: DeserializeOwned>(
        &mut self,
        place: &(Range<usize>, String, &str),
        word: Option<&&str>,
    ) -> bool {
        let (span, before, after) = place;
        let word = word.map(|word| format!("\"{word}\""));
        for placeholder in word.as_deref().into_iter().chain(PLACEHOLDERS) {
            let mut tried = self.clone();
            let new = format!("{before}{placeholder}{after}");
            tried.replace(span.clone(), &new);
            let inside = span.start..span.start + new.len();
            let is_wrong = match toml::from_str::<T>(&tried.text) {
                Ok(_) => false,
                Err(error) => error.span().is_none_or(|span| inside.start <= span.start && span.end <= inside.end),
            };
            if !is_wrong {
                *self = tried;
                return true;
            }
        }
        false
    }
}

/// Whether an error is about the value at its position, not about the syntax.
fn is_of_value(message: &str) -> bool {
    ["invalid type", "invalid value", "unknown variant", "invalid length"]
        .iter()
        .any(|start| message.starts_with(start))
}

/// The value of the key at a position.
fn value_of(table: &toml::de::DeTable<'_>, key: &Range<usize>) -> Option<Range<usize>> {
    table.iter().find_map(|(name, value)| match name.span() == *key {
        true => Some(value.span()),
        false => inside(value.get_ref(), key),
    })
}

fn inside(value: &toml::de::DeValue<'_>, key: &Range<usize>) -> Option<Range<usize>> {
    match value {
        toml::de::DeValue::Table(table) => value_of(table, key),
        toml::de::DeValue::Array(array) => array.iter().find_map(|value| inside(value.get_ref(), key)),
        _ => None,
    }
}

/// The word in backquotes after `start`.
fn quoted<'a>(message: &'a str, start: &str) -> Option<&'a str> {
    message.strip_prefix(start)?.split('`').next()
}

/// The expected words of a message such as ``unknown field `a`, expected one of `b`, `c` ``.
fn expected(message: &str) -> Vec<&str> {
    let list = message.split_once("expected ").map_or("", |(_, list)| list);
    list.split('`').skip(1).step_by(2).collect()
}

/// The expected word that is closest to the unknown one.
fn meant(message: &str) -> Option<&str> {
    let unknown = message.split('`').nth(1)?;
    closest(unknown, expected(message))
}

/// The word that differs from `unknown` in at most a third of its characters.
pub fn closest<'a>(unknown: &str, words: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let ranked = words.into_iter().map(|word| (strsim::osa_distance(unknown, word), word));
    let (distance, word) = ranked.min_by_key(|(distance, _)| *distance)?;
    (distance <= (unknown.chars().count() / 3).max(1)).then_some(word)
}

/// The message of the TOML reader as a sentence about the key.
fn in_words(message: &str) -> String {
    let did_you_mean = || meant(message).map(|word| format!("; did you mean `{word}`?"));
    let listed = || expected(message).iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", ");
    if message.starts_with("unknown field") {
        let known = || format!("; known keys: {}", listed());
        return format!("is not a known key{}", did_you_mean().unwrap_or_else(known));
    }
    if message.starts_with("missing field") {
        return "is missing".to_owned();
    }
    if message.starts_with("unknown variant") {
        let unknown = message.split('`').nth(1).unwrap_or_default();
        return format!("must be one of {}, found \"{unknown}\"{}", listed(), did_you_mean().unwrap_or_default());
    }
    if message.starts_with("duplicate key") {
        return "occurs twice".to_owned();
    }
    let rest = message.strip_prefix("invalid type: ").or_else(|| message.strip_prefix("invalid value: "));
    match rest.and_then(|rest| rest.rsplit_once(", expected ")) {
        Some((found, "u32" | "u64" | "usize")) if message.starts_with("invalid value") => {
            format!("must be a number from 0 on, found {}", found_value(found))
        }
        Some((found, wanted)) => format!("must be {}, found {}", kind(wanted), found_value(found)),
        None => message.replace('\n', "; "),
    }
}

/// The expected kind of a value in words.
fn kind(wanted: &str) -> &str {
    match wanted {
        "u8" => "a number from 0 to 255",
        "u16" => "a number from 0 to 65535",
        "u32" | "u64" | "usize" | "i32" | "i64" | "i128" | "u128" => "a number",
        "a string" | "string" => "text in quotes",
        "a boolean" => "true or false",
        "a sequence" => "a list",
        wanted if wanted == "a map" || wanted.starts_with("struct ") => "a table",
        wanted => wanted,
    }
}

/// A found value in words: `the text "40"`.
fn found_value(found: &str) -> String {
    let plain = found.replace('`', "");
    for (start, words) in [
        ("string ", "the text "),
        ("integer ", "the number "),
        ("floating point ", "the number "),
        ("boolean ", ""),
        ("sequence", "a list"),
        ("map", "a table"),
    ] {
        if let Some(rest) = plain.strip_prefix(start) {
            return format!("{words}{rest}");
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, serde::Deserialize)]
    #[serde(deny_unknown_fields)]
    #[allow(dead_code)]
    struct Document {
        name: String,
        count: u32,
        #[serde(default)]
        kind: Option<Kind>,
        #[serde(default)]
        region: Vec<Region>,
    }

    #[derive(Debug, serde::Deserialize)]
    #[serde(deny_unknown_fields)]
    #[allow(dead_code)]
    struct Region {
        memory: String,
        size: u8,
    }

    #[derive(Debug, serde::Deserialize)]
    #[serde(rename_all = "kebab-case")]
    enum Kind {
        Flash,
        Ram,
    }

    fn findings(text: &str) -> Vec<(usize, String, String)> {
        let line = |at: usize| text[..at].matches('\n').count() + 1;
        let findings = read::<Document>(text).map(|_| ()).err().unwrap_or_default();
        findings.into_iter().map(|finding| (line(finding.at), finding.key, finding.message)).collect()
    }

    /// Each error is found in one pass, at its line of the original document.
    #[test]
    fn all_findings_are_reported_at_once() {
        assert_eq!(findings("name = \"a\"\ncount = 1\n"), []);
        let text = "nmae = \"a\"\ncount = \"40\"\nkind = \"flsh\"\ncolour = [\n 1,\n 2,\n]\n\n\
                    [[region]]\nmemroy = \"a\"\nsize = 300\n\n[[region]]\nsize = true\n";
        let expected = [
            (1, "nmae", "is not a known key; did you mean `name`?"),
            (2, "count", "must be a number, found the text \"40\""),
            (3, "kind", "must be one of `flash`, `ram`, found \"flsh\"; did you mean `flash`?"),
            (4, "colour", "is not a known key; known keys: `name`, `count`, `kind`, `region`"),
            (10, "memroy", "is not a known key; did you mean `memory`?"),
            (11, "size", "must be a number from 0 to 255, found the number 300"),
            (13, "memory", "is missing"),
            (14, "size", "must be a number from 0 to 255, found true"),
        ];
        let expected = expected.map(|(line, key, message)| (line, key.to_owned(), message.to_owned()));
        assert_eq!(findings(text), expected);
    }

    #[test]
    fn inline_tables_and_syntax_errors_are_reported() {
        let text = "name = 3\ncount = 1\nregion = [{ memory = \"a\", hue = 1, size = 1 }, { }]\n";
        let keys: Vec<String> = findings(text).into_iter().map(|(_, key, _)| key).collect();
        assert_eq!(keys, ["name", "hue", "memory", "size"]);
        assert_eq!(findings("name = \"a\ncount = 1\n").len(), 1, "nothing follows an error of the syntax");
        assert_eq!(findings("count = 1\ncount = 2\nname = \"a\"\n")[0].2, "occurs twice");
    }

    #[test]
    fn the_closest_word_is_found() {
        for (unknown, word) in [("memmory", Some("memory")), ("ytpe", Some("type")), ("xyz", None)] {
            assert_eq!(closest(unknown, ["memory", "type", "size"]), word);
        }
    }
}
