//! The section `[simulate]`: reports and times of a simulated unit.

use std::time::Duration;

use toml::Spanned;
use vaka_base::duration;

use super::Checker;
use crate::bindings::Bindings;
use crate::model::{Dialect, Simulation};
use crate::raw::RawSimulation;
use crate::value::{Name, Value};

/// Reads and checks the section; problems are added to those of the checker.
pub(super) fn check(checker: &mut Checker<'_>, raw: &RawSimulation, dialect: &Dialect) -> Simulation {
    let reported: Vec<Name> = dialect.exchanges.iter().flat_map(|exchange| dialect.captured_by(exchange)).collect();
    let bindings = Bindings::new(dialect.clone().into());
    let mut values = Vec::new();
    for (key, value) in &raw.values {
        let known = checker.names.find(key.get_ref()).filter(|name| reported.contains(name));
        let Some(name) = known else {
            checker.wrong(
                &key.span(),
                format!("'{}' is not a name that a reply sets", vaka_base::text::sanitize(key.get_ref())),
            );
            continue;
        };
        let Some(expression) = checker.expression(value) else { continue };
        match bindings.value(&expression) {
            Ok(Value::Truth(_)) => checker.wrong(&value.span(), "expected a number or bytes"),
            Ok(value) => values.push((name, value)),
            Err(words) => checker.wrong(&value.span(), format!("expected a constant value: {words}")),
        }
    }
    let mut time = |text: &Option<Spanned<String>>| -> Option<Duration> {
        let text = text.as_ref()?;
        match duration::parse(text.get_ref()) {
            Ok(time) => Some(time),
            Err(error) => {
                checker.wrong(&text.span(), error.to_string());
                None
            }
        }
    };
    Simulation { values, erase: time(&raw.erase), program: time(&raw.program) }
}
