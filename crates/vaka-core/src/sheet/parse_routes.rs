//! The routes of a sheet: required and forbidden keys of each kind.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

use super::parse::{Checked, Checker};
use super::raw::RawVersionSource;
use super::raw_route::{OneOrMore, RawRoute, RawRouteKind, RawTakes, RawTold, RawUpload};
use super::raw_value::Spanned;
use super::{
    BOOTLOADER, DialectRoute, ExitMethod, FileForm, FileTarget, Ids, ImageRules, Programmer, Region, ResultFile, Route,
    RouteKind, Slots, Stage, UpdateMedium, Variant, VersionSource, VolumeRoute,
};
use crate::sheet::route::node_id;
use crate::unit::{MemoryChoice, PropertyValue, ReportedProperty};
use vaka_base::text;
use vaka_dialect::{Carrier, Dialect, OperationName, ReportedField, Value};
use vaka_image::address::{Address, Span};
use vaka_image::uf2;

impl Checker<'_> {
    /// Adds a route to each variant that it is for, or to its stage.
    pub(super) fn add_route(
        &self,
        raw: &RawRoute,
        variants: &mut [Variant],
        stages: &mut [Stage],
        programmers: &[Arc<Programmer>],
    ) -> Checked<()> {
        let mut stage = self.stage_of(raw, stages)?;
        for wanted in raw.variants.iter().flatten() {
            if !variants.iter().any(|variant| variant.id.as_str() == wanted.get_ref()) {
                let message = format!("no variant has the id '{}'", text::sanitize(wanted.get_ref()));
                return Err(self.error(&wanted.span(), "variants", message));
            }
        }
        for variant in variants {
            let meant = raw.variants.as_ref().is_none_or(|ids| ids.iter().any(|id| *id.get_ref() == variant.id.0));
            if !meant {
                continue;
            }
            if stage.as_ref().is_some_and(|stage| !stage.images.contains_key(&variant.id)) {
                continue;
            }
            let route = self.route(raw, variant, stage.as_deref(), programmers)?;
            if let Some(slots) = self.slots(raw, &route, variant)? {
                variant.slots = Some(slots);
            }
            let routes = match &mut stage {
                Some(stage) => stage.routes.entry(variant.id.clone()).or_default(),
                None => &mut variant.routes,
            };
            if routes.iter().any(|other| other.id.overlap(&route.id)) {
                let message = format!("variant '{}' has another route under {}", variant.id, route.id);
                return Err(self.error(&raw.kind.span(), "kind", message));
            }
            routes.push(route);
            // An ordinary way is taken unless the user names a programmer.
            routes.sort_by_key(|route| route.kind.programmer().is_some());
        }
        Ok(())
    }

    /// The stage that a route belongs to, if to one.
    fn stage_of<'s>(&self, raw: &RawRoute, stages: &'s mut [Stage]) -> Checked<Option<&'s mut Stage>> {
        let Some(name) = &raw.stage else { return Ok(None) };
        let known: Vec<String> = stages.iter().map(|stage| stage.id.clone()).collect();
        match stages.iter_mut().find(|stage| stage.id == *name.get_ref()) {
            Some(stage) => Ok(Some(stage)),
            None => {
                let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
                let message =
                    format!("no [[stage]] has the id '{}'; existing stages: {known}", text::sanitize(name.get_ref()));
                Err(self.error(&name.span(), "stage", message))
            }
        }
    }

    fn route(
        &self,
        raw: &RawRoute,
        variant: &Variant,
        stage: Option<&Stage>,
        programmers: &[Arc<Programmer>],
    ) -> Checked<Route> {
        let mut writes = Vec::new();
        let may_replace = stage.is_some_and(|stage| stage.replaces_bootloader);
        let names = raw.writes.as_ref();
        for name in names.iter().flat_map(|names| names.get_ref()) {
            let region = self.region("writes", name, &variant.regions)?;
            self.writable(&region, variant, may_replace, &name.span())?;
            writes.push(region);
        }
        match (&variant.image.any_file, names) {
            (Some(_), None) => writes.push(variant.image.region.clone()),
            (Some(_), Some(names)) => {
                let message = format!("variant '{}' is a file and has no regions", variant.id);
                return Err(self.error(&names.span(), "writes", message));
            }
            (None, _) if writes.is_empty() => {
                let place = names.map_or(raw.kind.span(), Spanned::span);
                return Err(self.error(&place, "writes", "at least one region is required".into()));
            }
            (None, _) => {}
        }
        let memory = MemoryChoice {
            name: self.optional_words("memory", raw.memory.as_ref())?,
            interface: raw.interface,
            alternate: raw.alternate,
        };
        let kind = match raw.kind.get_ref() {
            RawRouteKind::Dfu => RouteKind::Dfu { memory },
            RawRouteKind::PlainDfu => {
                let uploads_image = matches!(raw.upload.as_ref().map(Spanned::get_ref), Some(RawUpload::Image));
                RouteKind::PlainDfu { memory, uploads_image }
            }
            RawRouteKind::Volume => RouteKind::Volume(self.volume(raw, &writes)?),
            RawRouteKind::Dialect => {
                let dialect = self.own_dialect(raw)?;
                RouteKind::Dialect(self.dialect_route(raw, dialect, &writes, variant)?)
            }
            RawRouteKind::Programmer => {
                let programmer = self.programmer_of(raw, programmers)?;
                let route = self.dialect_route(raw, programmer.dialect.clone(), &writes, variant)?;
                RouteKind::Dialect(DialectRoute { programmer: Some(programmer), ..route })
            }
        };
        if kind.programmer().is_none() {
            self.stray("programmer", raw.programmer.as_ref(), "applies only to a route with kind = \"programmer\"")?;
        }
        if kind.dialect().is_none() {
            self.stray("tells", raw.tells.as_ref(), "applies only to a route with a dialect")?;
        }
        if kind.dialect().is_none() || kind.programmer().is_some() {
            const MEANING: &str = "applies only to a route with kind = \"dialect\"";
            self.stray("dialect", raw.dialect.as_ref(), MEANING)?;
            self.stray("slot", raw.slot.as_ref(), MEANING)?;
            self.stray("with", raw.with.as_ref(), MEANING)?;
            self.stray("secrets", raw.secrets.as_ref(), MEANING)?;
        }
        if kind.volume().is_none() {
            self.no_disk_keys(raw)?;
        }
        let id = self.route_id(&kind, raw)?;
        self.tells_flash(&kind, variant, raw)?;
        self.takes_any_file(&kind, variant, &raw.kind.span())?;
        let restart_at = self.restart_at(raw, &kind, variant)?;
        let entry = match kind.programmer() {
            Some(programmer) => programmer.wiring.clone(),
            None => self.entry(&raw.entry)?,
        };
        let listens = raw.listens.as_ref().map(|time| self.time("listens", time)).transpose()?;
        Ok(Route {
            kind,
            id,
            signs: self.signs([&raw.product, &raw.maker, &raw.serial, &raw.release])?,
            writes,
            restart_at,
            entry,
            listens,
            recovery: self.recovery(&raw.recovery)?,
            documented: self.optional_words("documented", raw.documented.as_ref())?,
        })
    }

    /// The ids under which a route works; over a CAN bus the kind of nodes that answers in its dialect.
    fn route_id(&self, kind: &RouteKind, raw: &RawRoute) -> Checked<Ids> {
        if let Some(programmer) = kind.programmer() {
            return Ok(programmer.target.clone());
        }
        let carrier = kind.dialect().map(|route| (&route.dialect, matches!(route.dialect.carrier, Carrier::Can(_))));
        match (carrier, &raw.id) {
            (Some((dialect, true)), given) => {
                let Some(id) = node_id(dialect) else {
                    let message = format!("dialect '{}' requires [discover], which finds the nodes", dialect.name);
                    return Err(self.error(&raw.kind.span(), "dialect", message));
                };
                match given {
                    Some(other) if *other.get_ref() != id => {
                        let message = format!("a route over a CAN bus has no USB ids; its nodes are {id}");
                        Err(self.error(&other.span(), "id", message))
                    }
                    _ => Ok(id),
                }
            }
            (_, Some(id)) if !id.get_ref().is_usb() => {
                let message = "only a route in a dialect over a CAN bus has nodes".into();
                Err(self.error(&id.span(), "id", message))
            }
            (_, Some(id)) => Ok(id.get_ref().clone()),
            (_, None) => Err(self.error(&raw.kind.span(), "kind", "`id` is required: the unit's USB ids".into())),
        }
    }

    pub(super) fn dialect(&self, name: &Spanned<String>) -> Checked<Arc<Dialect>> {
        self.dialects.get(name.get_ref()).cloned().ok_or_else(|| {
            let known: Vec<&str> = self.dialects.keys().map(String::as_str).collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            let message = format!(
                "no dialect has the name '{}'; dialects in the folder of this sheet: {known} (files *.dialect.toml)",
                text::sanitize(name.get_ref())
            );
            self.error(&name.span(), "dialect", message)
        })
    }

    /// The dialect in which the application confirms.
    pub(super) fn confirm(&self, name: &Spanned<String>) -> Checked<Arc<Dialect>> {
        let dialect = self.dialect(name)?;
        match dialect.operation(OperationName::Confirm) {
            Some(_) => Ok(dialect),
            None => {
                let message = format!("dialect '{}' has no [confirm]", dialect.name);
                Err(self.error(&name.span(), "confirm", message))
            }
        }
    }

    /// A version that is told must be one of the values of the confirmation.
    pub(super) fn told_version(
        &self,
        version: &VersionSource,
        confirm: Option<&Dialect>,
        place: Option<&Spanned<RawVersionSource>>,
    ) -> Checked<()> {
        let (VersionSource::Told { name }, Some(place)) = (version, place) else { return Ok(()) };
        let tells = confirm.and_then(|dialect| dialect.operation(OperationName::Confirm));
        match tells.is_some_and(|confirm| confirm.tells.iter().any(|tell| tell.name == *name)) {
            true => Ok(()),
            false => {
                let message = format!("requires `confirm`: a dialect whose [confirm] tells '{}'", text::sanitize(name));
                Err(self.error(&place.span(), "version", message))
            }
        }
    }

    /// A dialect with values of its parameters: a number, or bytes in the form of a text. A text that
    /// begins with `0x` is hex digits.
    pub(super) fn dialect_with(&self, name: &Spanned<String>, settings: DialectSettings<'_>) -> Checked<Arc<Dialect>> {
        let mut dialect = self.dialect(name)?;
        if let Some(with) = settings.with {
            dialect = self.with_parameters(&dialect, with)?;
        }
        match settings.secrets {
            Some(secrets) => self.with_secrets(&dialect, secrets),
            None => Ok(dialect),
        }
    }

    fn with_secrets(
        &self,
        dialect: &Dialect,
        secrets: &Spanned<BTreeMap<String, Spanned<String>>>,
    ) -> Checked<Arc<Dialect>> {
        let folder = Path::new(self.file()).parent().unwrap_or(Path::new(""));
        let mut made = dialect.clone();
        for (name, file) in secrets.get_ref() {
            let Some(secret) = made.secrets.iter_mut().find(|secret| secret.key == *name) else {
                let message = format!("dialect '{}' does not ask for '{}'", dialect.name, text::sanitize(name));
                return Err(self.error(&file.span(), "secrets", message));
            };
            let is_plain = Path::new(file.get_ref()).components().count() == 1 && !file.get_ref().starts_with('.');
            if !is_plain {
                let message = "a file with a secret must be in the folder of the sheet: give the file name only";
                return Err(self.error(&file.span(), "secrets", message.into()));
            }
            secret.file = Some(folder.join(file.get_ref()));
        }
        Ok(Arc::new(made))
    }

    fn with_parameters(&self, dialect: &Dialect, with: &Spanned<BTreeMap<String, RawTold>>) -> Checked<Arc<Dialect>> {
        let value = |raw: &RawTold| match raw {
            RawTold::Number(number) => Some(Value::Int(i128::from(*number))),
            RawTold::Text(text) => match text.strip_prefix("0x") {
                Some(digits) => text::parse_hex(digits.as_bytes()).map(Value::from),
                None => Some(Value::from(text.clone().into_bytes())),
            },
        };
        let mut values = BTreeMap::new();
        for (name, raw) in with.get_ref() {
            let value = value(raw).ok_or_else(|| {
                let message = format!("expected pairs of hex digits after 0x for '{}'", text::sanitize(name));
                self.error(&with.span(), "with", message)
            })?;
            values.insert(name.clone(), value);
        }
        let made = dialect.with(&values);
        made.map(Arc::new).map_err(|errors| self.error(&with.span(), "with", errors.to_string()))
    }

    /// The dialect that a route names, with its settings.
    fn own_dialect(&self, raw: &RawRoute) -> Checked<Arc<Dialect>> {
        let Some(name) = &raw.dialect else {
            return Err(self.error(&raw.kind.span(), "kind", "`dialect` is required".into()));
        };
        self.dialect_with(name, DialectSettings { with: raw.with.as_ref(), secrets: raw.secrets.as_ref() })
    }

    fn dialect_route(
        &self,
        raw: &RawRoute,
        dialect: Arc<Dialect>,
        writes: &[Region],
        variant: &Variant,
    ) -> Checked<DialectRoute> {
        self.stray("memory", raw.memory.as_ref(), "does not apply to a dialect")?;
        if dialect.operation(OperationName::Write).is_none() {
            let place = raw.dialect.as_ref().or(raw.programmer.as_ref()).map_or(raw.kind.span(), Spanned::span);
            return Err(self.error(
                &place,
                "dialect",
                format!("dialect '{}' cannot write: it has no [write]", dialect.name),
            ));
        }
        if let Some((start, size)) = dialect.window() {
            let covers = |region: &&Region| {
                region.span.start().get() >= start && region.span.end().get() <= start.saturating_add(size)
            };
            if let Some(region) = writes.iter().find(|region| !covers(region)) {
                let message = format!(
                    "region '{}', {}, of variant '{}' is outside the range that dialect '{}' can write: {size} bytes from 0x{start:X}",
                    region.name, region.span, variant.id, dialect.name
                );
                return Err(self.error(&writes_place(raw), "writes", message));
            }
        }
        let told = told_by(&dialect);
        let mut tells = Vec::new();
        if let Some(raw) = &raw.tells {
            for (name, value) in raw.get_ref() {
                if !told.iter().any(|tell| tell.name == *name) {
                    let known = reported_names(&told);
                    let message =
                        format!("dialect '{}' reports {known}, but not '{}'", dialect.name, text::sanitize(name));
                    return Err(self.error(&raw.span(), "tells", message));
                }
                let value = match value {
                    RawTold::Number(number) => PropertyValue::Number(i128::from(*number)),
                    RawTold::Text(text) => PropertyValue::Text(text.clone()),
                };
                tells.push(ReportedProperty { name: name.clone(), value });
            }
        }
        Ok(DialectRoute { dialect, tells, programmer: None })
    }

    /// A dialect tells the size of the flash, if the sheet leaves that to the unit.
    fn tells_flash(&self, kind: &RouteKind, variant: &Variant, raw: &RawRoute) -> Checked<()> {
        let Some((route, flash)) = kind.dialect().zip(variant.reported_flash.as_ref()) else { return Ok(()) };
        let told = told_by(&route.dialect);
        match &flash.told {
            Some(name) if told.iter().any(|tell| tell.name == *name) => Ok(()),
            _ => {
                let message = format!(
                    "`told` of `reported_flash` of variant '{}' must be one of the values that the dialect reports: {}",
                    variant.id,
                    reported_names(&told)
                );
                Err(self.error(&raw.kind.span(), "told", message))
            }
        }
    }

    /// The regions of which the unit selects one, for a route that is otherwise complete.
    fn slots(&self, raw: &RawRoute, route: &Route, variant: &Variant) -> Checked<Option<Slots>> {
        let Some(by) = &raw.slot else { return Ok(None) };
        if raw.stage.is_some() || variant.slots.is_some() {
            let message = "only one route for ordinary updates of a variant can have it".into();
            return Err(self.error(&by.span(), "slot", message));
        }
        let told = route.kind.dialect().map(|of| told_by(&of.dialect)).unwrap_or_default();
        if !told.iter().any(|tell| tell.name == *by.get_ref()) {
            let message =
                format!("the dialect reports {}, but not '{}'", reported_names(&told), text::sanitize(by.get_ref()));
            return Err(self.error(&by.span(), "slot", message));
        }
        if !variant.further.is_empty() {
            let message = "a variant with [[variant.further_image]] cannot have it".into();
            return Err(self.error(&by.span(), "slot", message));
        }
        let own = &variant.image.region;
        if !route.writes.contains(own) {
            let message = format!("the region of the image, '{}', must be one of `writes`", own.name);
            return Err(self.error(&by.span(), "slot", message));
        }
        if let Some(other) = route.writes.iter().find(|other| other.span.len() != own.span.len()) {
            let message = format!("region '{}' has another size than '{}'", other.name, own.name);
            return Err(self.error(&by.span(), "slot", message));
        }
        let variants = route.writes.iter().map(|region| {
            let routes = vec![Route { writes: vec![region.clone()], ..route.clone() }];
            let binary_at = variant.image.binary_at.map(|_| region.span.start());
            let image = ImageRules { region: region.clone(), binary_at, ..variant.image.clone() };
            Variant { image, routes, slots: None, ..variant.clone() }
        });
        Ok(Some(Slots { id: route.id.clone(), by: by.get_ref().clone(), variants: variants.collect() }))
    }

    /// A key that has no meaning on a route.
    pub(super) fn stray<T>(&self, key: &str, value: Option<&Spanned<T>>, meaning: &str) -> Checked<()> {
        value.map_or(Ok(()), |value| Err(self.error(&value.span(), key, meaning.to_owned())))
    }

    fn no_disk_keys(&self, raw: &RawRoute) -> Checked<()> {
        const MEANING: &str = "applies only to a route with kind = \"volume\"";
        self.stray("takes", raw.takes.as_ref(), MEANING)?;
        self.stray("family", raw.family.as_ref(), MEANING)?;
        self.stray("board_id", raw.board_id.as_ref(), MEANING)?;
        self.stray("label", raw.label.as_ref(), MEANING)?;
        self.stray("application_file", raw.application_file.as_ref(), MEANING)?;
        self.stray("leave", raw.leave.as_ref(), MEANING)?;
        self.no_file_keys(raw, MEANING)
    }

    fn no_file_keys(&self, raw: &RawRoute, meaning: &str) -> Checked<()> {
        self.stray("file", raw.file.as_ref(), meaning)?;
        self.stray("order", raw.order.as_ref(), meaning)?;
        self.stray("remove_first", raw.remove_first.as_ref(), meaning)?;
        self.stray("eject_after", raw.eject_after.as_ref(), meaning)?;
        self.stray("result", raw.result.as_ref(), meaning)
    }

    fn volume(&self, raw: &RawRoute, writes: &[Region]) -> Checked<VolumeRoute> {
        self.stray("memory", raw.memory.as_ref(), "does not apply to a disk")?;
        let Some(takes) = &raw.takes else {
            let message = "`takes` is required: \"uf2\", \"hex\", \"binary\" or \"file\"".into();
            return Err(self.error(&raw.kind.span(), "kind", message));
        };
        let labels = match raw.label.as_ref().map(Spanned::get_ref) {
            None => Vec::new(),
            Some(OneOrMore::One(label)) => vec![label.clone()],
            Some(OneOrMore::More(labels)) => labels.clone(),
        };
        let place = raw.label.as_ref().map_or(takes.span(), Spanned::span);
        if labels.iter().any(|label| label.is_empty() || label.len() > 11 || text::sanitize(label) != *label) {
            let message = "a disk label must have 1 to 11 characters".into();
            return Err(self.error(&place, "label", message));
        }
        let form = match takes.get_ref() {
            RawTakes::Uf2 => None,
            RawTakes::Hex => Some(FileForm::Hex),
            RawTakes::Binary => Some(FileForm::Binary),
            RawTakes::File => Some(FileForm::AsIs),
        };
        if form.is_some() && labels.is_empty() {
            let message = "`label` is required, because only the label distinguishes the disk from others".into();
            return Err(self.error(&place, "takes", message));
        }
        let takes = match form {
            None => self.takes_uf2(raw, writes)?,
            Some(form) => UpdateMedium::File(self.drop_file(raw, form)?),
        };
        let application_file =
            raw.application_file.as_ref().map(|name| self.file_name("application_file", name)).transpose()?;
        // Its file is what the disk shows.
        let application_file = match &takes {
            UpdateMedium::File(file) if file.form == FileForm::AsIs => Some(file.name.clone()),
            _ => application_file,
        };
        let leave = raw.leave.as_ref().map(|leave| *leave.get_ref()).unwrap_or_default();
        if let Some(given) =
            raw.leave.as_ref().filter(|_| leave == ExitMethod::LastBlock && matches!(takes, UpdateMedium::File(_)))
        {
            return Err(self.error(&given.span(), "leave", "applies only to UF2 blocks".into()));
        }
        Ok(VolumeRoute { takes, labels, application_file, leave })
    }

    fn takes_uf2(&self, raw: &RawRoute, writes: &[Region]) -> Checked<UpdateMedium> {
        self.no_file_keys(raw, "applies only to a disk that takes a file")?;
        let Some(family) = &raw.family else {
            let message = "`family` is required: the UF2 family of the unit".into();
            return Err(self.error(&raw.kind.span(), "kind", message));
        };
        let number = u32::try_from(self.size("family", family)?).ok();
        let family =
            number.ok_or_else(|| self.error(&family.span(), "family", "must be a number of 32 bits".into()))?;
        let page = uf2::PAYLOAD as u64;
        let whole =
            |region: &Region| region.span.start().get().is_multiple_of(page) && region.span.len().is_multiple_of(page);
        if let Some(region) = writes.iter().find(|region| !whole(region)) {
            let message = format!("region '{}' starts or ends inside a UF2 block of 256 bytes", region.name);
            return Err(self.error(&writes_place(raw), "writes", message));
        }
        Ok(UpdateMedium::Uf2 { family, board_id: self.optional_words("board_id", raw.board_id.as_ref())? })
    }

    fn drop_file(&self, raw: &RawRoute, form: FileForm) -> Checked<FileTarget> {
        const MEANING: &str = "applies only to a disk that takes UF2 blocks";
        self.stray("family", raw.family.as_ref(), MEANING)?;
        self.stray("board_id", raw.board_id.as_ref(), MEANING)?;
        let Some(name) = &raw.file else {
            let message = "`file` is required: the file name on the disk".into();
            return Err(self.error(&raw.kind.span(), "kind", message));
        };
        if form == FileForm::AsIs {
            const MEANING: &str = "does not apply to takes = \"file\"";
            self.stray("application_file", raw.application_file.as_ref(), MEANING)?;
            self.stray("remove_first", raw.remove_first.as_ref(), MEANING)?;
            self.stray("eject_after", raw.eject_after.as_ref(), MEANING)?;
            self.stray("result", raw.result.as_ref(), MEANING)?;
        }
        let remove_first = raw.remove_first.as_ref().is_some_and(|value| *value.get_ref());
        if let (true, None, Some(place)) = (remove_first, &raw.application_file, &raw.remove_first) {
            let message = "requires `application_file`".into();
            return Err(self.error(&place.span(), "remove_first", message));
        }
        let result = raw.result.as_ref().map(|result| {
            let result = result.get_ref();
            Ok(ResultFile {
                file: self.file_name("file", &result.file)?,
                success: self.words("success", &result.success)?,
                failure: self.words("failure", &result.failure)?,
            })
        });
        Ok(FileTarget {
            form,
            name: self.file_name("file", name)?,
            order: raw.order.as_ref().map(|order| *order.get_ref()).unwrap_or_default(),
            remove_first,
            eject_after: raw.eject_after.as_ref().is_some_and(|value| *value.get_ref()),
            result: result.transpose()?,
        })
    }

    /// Units that are written by address receive a start address; plain DFU has no request for
    /// this.
    fn restart_at(&self, raw: &RawRoute, kind: &RouteKind, variant: &Variant) -> Checked<Option<Address>> {
        match (kind, &raw.restart_at, &raw.upload) {
            (RouteKind::Dfu { .. }, _, Some(upload)) => {
                let message = "applies only to plain DFU; with memory addresses an upload returns the memory".into();
                Err(self.error(&upload.span(), "upload", message))
            }
            (RouteKind::Dfu { .. }, None, _) => {
                let message = "`restart_at` is required: the start address after update mode".into();
                Err(self.error(&raw.kind.span(), "kind", message))
            }
            (RouteKind::PlainDfu { .. } | RouteKind::Volume(_), Some(at), _) => {
                let message = format!("does not apply to a {kind} route, which has no start address");
                Err(self.error(&at.span(), "restart_at", message))
            }
            (RouteKind::Dialect(_), _, Some(upload)) => {
                let message = "applies only to plain DFU; a dialect reads the memory".into();
                Err(self.error(&upload.span(), "upload", message))
            }
            (RouteKind::Dialect(_), None, None) => Ok(None),
            (RouteKind::Volume(_), None, Some(upload)) => {
                let message = "applies only to plain DFU; for a disk, use `application_file`".into();
                Err(self.error(&upload.span(), "upload", message))
            }
            (RouteKind::PlainDfu { .. } | RouteKind::Volume(_), None, _) => Ok(None),
            (RouteKind::Dfu { .. } | RouteKind::Dialect(_), Some(at), None) => {
                let address = self.address("restart_at", at)?;
                if variant.flash.zone_at(address).is_none() {
                    let message = format!("{address} is outside the flash of variant '{}'", variant.id);
                    return Err(self.error(&at.span(), "restart_at", message));
                }
                Ok(Some(address))
            }
        }
    }

    /// A route may write a region if erasing it affects nothing else; only a stage may write the
    /// bootloader.
    fn writable(&self, region: &Region, variant: &Variant, may_replace: bool, place: &Range<usize>) -> Checked<()> {
        if region.name == BOOTLOADER && !may_replace {
            let message = "an ordinary route must not write the bootloader, because its loss can brick a unit; only a route of a [[stage]] with replaces_bootloader = true may";
            return Err(self.error(place, "writes", message.into()));
        }
        if !region.may_write {
            let message = format!("region '{}' of variant '{}' does not allow writing", region.name, variant.id);
            return Err(self.error(place, "writes", message));
        }
        let bootloader = variant.regions.iter().find(|region| region.name == BOOTLOADER);
        if may_replace && region.name == BOOTLOADER && bootloader.is_some_and(|own| own.span == region.span) {
            return self.whole_sectors(region, variant, place);
        }
        self.beside_named(region, variant, place)
    }

    /// A new bootloader must fill its sectors, so that erasing affects nothing else.
    fn whole_sectors(&self, region: &Region, variant: &Variant, place: &Range<usize>) -> Checked<()> {
        let sectors = variant.flash.sectors_in(region.span).unwrap_or_default();
        if sectors.iter().map(|sector| sector.len()).sum::<u64>() == region.span.len() {
            return Ok(());
        }
        let message = format!("region '{}' starts or ends inside a sector of variant '{}'", region.name, variant.id);
        Err(self.error(place, "writes", message))
    }

    /// Checks that only named regions other than the bootloader share a sector with the region.
    fn beside_named(&self, region: &Region, variant: &Variant, place: &Range<usize>) -> Checked<()> {
        let first = variant.flash.sector_at(region.span.start());
        let last = region.span.end().get().checked_sub(1).and_then(|end| variant.flash.sector_at(Address::new(end)));
        // Named regions in a shared sector can be preserved; the bootloader must not share one.
        let all_named = |sector: Span| {
            let named = variant.regions.iter().filter(|other| other.name != BOOTLOADER);
            named.filter_map(|other| other.span.common(sector)).map(Span::len).sum::<u64>() == sector.len()
        };
        if first.is_some_and(all_named) && last.is_some_and(all_named) {
            return Ok(());
        }
        let message = format!(
            "region '{}', {}, of variant '{}' starts or ends inside a sector; erasing it would also erase the bootloader or unnamed flash",
            region.name, region.span, variant.id
        );
        Err(self.error(place, "writes", message))
    }
}

/// The place of `writes` for an error.
fn writes_place(raw: &RawRoute) -> Range<usize> {
    raw.writes.as_ref().map_or(raw.kind.span(), Spanned::span)
}

/// The keys of a sheet that complete a dialect.
#[derive(Clone, Copy)]
pub(super) struct DialectSettings<'r> {
    pub(super) with: Option<&'r Spanned<BTreeMap<String, RawTold>>>,
    pub(super) secrets: Option<&'r Spanned<BTreeMap<String, Spanned<String>>>>,
}

/// The names that a dialect reports of a unit, for a message.
/// The properties that a unit reports: in the discovery of nodes, and when it is identified.
fn told_by(dialect: &Dialect) -> Vec<&ReportedField> {
    let operations = [OperationName::Discover, OperationName::Identify];
    operations.into_iter().filter_map(|name| dialect.operation(name)).flat_map(|operation| &operation.tells).collect()
}

fn reported_names(reported: &[&ReportedField]) -> String {
    let names: Vec<&str> = reported.iter().map(|field| field.name.as_str()).collect();
    if names.is_empty() { "nothing".to_owned() } else { names.join(", ") }
}
