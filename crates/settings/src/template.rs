//! Templates and expressions of a sheet, strict: an undefined name is an error when the sheet is
//! checked. What a sheet can call stands in `helpers.rs`.

use std::collections::BTreeMap;

use minijinja::syntax::SyntaxConfig;
use minijinja::{Environment, UndefinedBehavior, Value};

use crate::address::{Address, netmask};
use crate::helpers::{self, TemplateAddress, TemplateNetwork};
use crate::network::parse_networks;
use crate::{Effective, FieldKind, MASK, Subject};

/// Steps that a template may take; the longest file of a real sheet takes some hundreds.
const FUEL: u64 = 200_000;
/// Longest template, in bytes.
const MOST_TEMPLATE: usize = 64 << 10;
/// Longest expression, and longest tag of a template, in bytes.
const MOST_EXPRESSION: usize = 2000;
/// How deep brackets, conditions and blocks may stand in each other, and how many signs there may
/// be: each costs stack while it is read.
const MOST_DEPTH: usize = 40;
/// Longest text that a template may make, in bytes.
const MOST_FILLED: usize = 1 << 20;

/// Names beside the fields of a sheet.
pub(crate) const GIVEN: [&str; 4] = ["board", "site", "device", "attached"];
/// Names in a placement that is made for each item of a list.
pub(crate) const OF_EACH: [&str; 2] = ["item", "number"];

/// What names stand for.
pub(crate) type Context = BTreeMap<String, Value>;

/// Templates and expressions of one device, or of none while a sheet is checked.
pub(crate) struct Templates {
    environment: Environment<'static>,
}

impl Templates {
    pub fn new(subject: Option<&Subject>) -> Self {
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::Strict);
        environment.set_fuel(Some(FUEL));
        if let Ok(syntax) = SyntaxConfig::builder().keep_trailing_newline(true).build() {
            environment.set_syntax(syntax);
        }
        helpers::add_to(&mut environment, subject);
        Self { environment }
    }

    /// Checks that a template is one and names only what is known.
    pub fn check(&self, template: &str, known: &dyn Fn(&str) -> bool) -> Result<(), String> {
        bound_template(template)?;
        let template = self.environment.template_from_str(template);
        let template = template.map_err(|e| e.to_string())?;
        check_names(template.undeclared_variables(false), known)
    }

    /// The same of an expression.
    pub fn check_expression(
        &self,
        expression: &str,
        known: &dyn Fn(&str) -> bool,
    ) -> Result<(), String> {
        bound_expression(expression)?;
        let expression = self.environment.compile_expression(expression);
        let expression = expression.map_err(|e| e.to_string())?;
        check_names(expression.undeclared_variables(false), known)
    }

    /// Fills a template with what must not be seen. An error says no more than its kind and line.
    pub fn fill(&self, template: &str, context: &Context) -> Result<String, String> {
        bound_template(template)?;
        let filled = self.environment.render_str(template, context.clone());
        bound_filled(filled.map_err(|e| explain(&e))?)
    }

    /// Fills a template with masked values; an error says all that is known.
    pub fn fill_masked(&self, template: &str, masked: &Context) -> Result<String, String> {
        bound_template(template)?;
        let filled = self.environment.render_str(template, masked.clone());
        let filled = filled.map_err(|e| match e.detail() {
            Some(detail) => format!("{}: {detail}", explain(&e)),
            None => explain(&e),
        });
        bound_filled(filled?)
    }

    /// Whether an expression holds; one that is not given does. Of a secret it must see only whether
    /// it is set, so that the context is a masked one: else a sheet could ask for it letter by letter.
    pub fn holds(&self, expression: Option<&str>, masked: &Context) -> Result<bool, String> {
        let Some(expression) = expression else {
            return Ok(true);
        };
        bound_expression(expression)?;
        let compiled = self.environment.compile_expression(expression);
        let compiled = compiled.map_err(|e| e.to_string())?;
        let value = compiled.eval(masked.clone()).map_err(|e| explain(&e))?;
        Ok(value.is_true())
    }
}

/// Refuses an expression that would cost too much to read, before it is read.
fn bound_expression(expression: &str) -> Result<(), String> {
    if expression.len() > MOST_EXPRESSION {
        return Err(format!(
            "an expression is longer than {MOST_EXPRESSION} bytes"
        ));
    }
    let (mut depth, mut deepest, mut signs) = (0_usize, 0, 0);
    for byte in expression.bytes() {
        match byte {
            b'(' | b'[' | b'{' => depth += 1,
            b')' | b']' | b'}' => depth = depth.saturating_sub(1),
            b'-' | b'+' | b'!' | b'*' | b'~' | b'^' => signs += 1,
            _ => {}
        }
        deepest = deepest.max(depth);
    }
    let words = expression.split(|c: char| !c.is_alphanumeric() && c != '_');
    let nested = words.filter(|word| matches!(*word, "not" | "if" | "else" | "is" | "and" | "or"));
    if deepest > MOST_DEPTH || signs > MOST_DEPTH || nested.count() > MOST_DEPTH {
        return Err(format!(
            "an expression has more than {MOST_DEPTH} brackets, signs or conditions in each other"
        ));
    }
    Ok(())
}

/// Refuses a template that would cost too much to read, before it is read.
fn bound_template(template: &str) -> Result<(), String> {
    if template.len() > MOST_TEMPLATE {
        return Err(format!("a template is longer than {MOST_TEMPLATE} bytes"));
    }
    let mut depth = 0_usize;
    let mut rest = template;
    while let Some(at) = rest.find("{{").into_iter().chain(rest.find("{%")).min() {
        let block = rest[at..].starts_with("{%");
        let tag = &rest[at + 2..];
        let end = tag.find(if block { "%}" } else { "}}" });
        let inside = &tag[..end.unwrap_or(tag.len())];
        bound_expression(inside)?;
        let word = inside.trim_start_matches(['-', '+']).trim_start();
        if block && word.starts_with("end") {
            depth = depth.saturating_sub(1);
        } else if block && !word.starts_with("el") {
            depth += 1;
        }
        if depth > MOST_DEPTH {
            return Err(format!(
                "a template has more than {MOST_DEPTH} blocks in each other"
            ));
        }
        rest = &tag[end.map_or(tag.len(), |end| end + 2)..];
    }
    Ok(())
}

/// What a template made, unless it is longer than any file of settings.
fn bound_filled(filled: String) -> Result<String, String> {
    match filled.len() > MOST_FILLED {
        true => Err(format!("it makes more than {MOST_FILLED} bytes")),
        false => Ok(filled),
    }
}

/// What went wrong, without the details: they could quote a value that is a secret.
fn explain(e: &minijinja::Error) -> String {
    match e.line() {
        Some(line) => format!("{}, line {line}", e.kind()),
        None => e.kind().to_string(),
    }
}

fn check_names(
    names: std::collections::HashSet<String>,
    known: &dyn Fn(&str) -> bool,
) -> Result<(), String> {
    let mut unknown: Vec<_> = names
        .into_iter()
        .filter(|name| !known(name) && !helpers::NAMES.contains(&name.as_str()))
        .collect();
    unknown.sort();
    match unknown.first() {
        Some(name) => Err(format!("{name:?} is not a field of this sheet")),
        None => Ok(()),
    }
}

/// The names of a device, with its settings; `masked` puts [`MASK`] in place of every secret and
/// of what is derived from one.
pub(crate) fn context(settings: &[Effective], subject: &Subject, masked: bool) -> Context {
    let mut context = given(subject);
    for one in settings {
        let masked = masked && one.secret;
        let value = value_of(one.kind, one.value.as_deref(), masked);
        context.insert(one.name.clone(), value);
    }
    context
}

/// What is known of a device beside its settings.
pub(crate) fn given(subject: &Subject) -> Context {
    let text = |text: &str| Value::from(text);
    Context::from([
        ("board".into(), text(&subject.board)),
        ("site".into(), text(&subject.site)),
        ("device".into(), text(&subject.device)),
        ("attached".into(), Value::from(subject.attached.clone())),
    ])
}

/// A value as templates see it. One that is not set is empty text, an empty list or false. `masked`
/// says that it holds a secret that must not be seen, whatever its kind.
pub(crate) fn value_of(kind: FieldKind, value: Option<&str>, masked: bool) -> Value {
    let text = value.unwrap_or_default();
    if masked && kind != FieldKind::Networks && !text.is_empty() {
        return Value::from(MASK);
    }
    match kind {
        FieldKind::YesNo => Value::from(text == "yes"),
        FieldKind::List | FieldKind::SshKeys => {
            Value::from(text.lines().map(str::to_owned).collect::<Vec<_>>())
        }
        FieldKind::Number => match (text.parse::<i64>(), text.parse::<f64>()) {
            (Ok(whole), _) => Value::from(whole),
            (_, Ok(number)) => Value::from(number),
            _ => Value::from(text),
        },
        FieldKind::Networks => {
            let networks = parse_networks(text).unwrap_or_default();
            let secret = |plain: Option<String>| match plain {
                Some(_) if masked => MASK.into(),
                plain => plain.unwrap_or_default(),
            };
            let seen = networks.into_iter().map(|one| TemplateNetwork {
                key: secret(match masked {
                    true => one.passphrase.clone(),
                    false => one.key(),
                }),
                passphrase: secret(one.passphrase),
                name: one.name,
                hidden: one.hidden,
                security: one.security,
            });
            Value::from(seen.map(|one| one.to_value()).collect::<Vec<_>>())
        }
        FieldKind::Address => match Address::parse(text) {
            Ok(Address::Fixed {
                address,
                prefix,
                gateway,
                dns,
            }) => TemplateAddress {
                dhcp: false,
                address: address.to_string(),
                prefix,
                netmask: netmask(prefix).to_string(),
                gateway: gateway.map(|one| one.to_string()).unwrap_or_default(),
                dns: dns.iter().map(ToString::to_string).collect(),
            }
            .to_value(),
            Ok(Address::Dhcp) => TemplateAddress {
                dhcp: true,
                ..TemplateAddress::default()
            }
            .to_value(),
            Err(_) => Value::from(text),
        },
        _ => Value::from(text),
    }
}
