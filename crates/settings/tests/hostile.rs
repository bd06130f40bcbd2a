//! Sheets are foreign: whoever publishes one must neither stop the service nor learn a secret.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use imagecraft::compose::Change;
use proptest::prelude::*;
use settings::{Layer, MASK, Placement, Settings, Sheet, Subject, effective, lay_out};

fn sheet(more: &str) -> String {
    format!(
        r#"
appliance = "quaylink"
version = "1"
boards = ["plover"]
{more}
"#
    )
}

fn field(more: &str) -> String {
    sheet(&format!(
        "[[fields]]\nname = \"tok\"\nkind = \"text\"\nlabel = \"Token\"\n{more}"
    ))
}

fn placement(more: &str) -> String {
    sheet(&format!(
        "[[placements]]\npartition = \"boot\"\npath = \"a\"\n{more}"
    ))
}

/// Reads a sheet on a small stack and within a second, as one of many would be.
fn read(text: &str) -> Result<Sheet, String> {
    let begun = Instant::now();
    let text = text.to_owned();
    let read = std::thread::Builder::new()
        .stack_size(2 << 20)
        .spawn(move || Sheet::parse(&text).map_err(|e| e.to_string()))
        .unwrap()
        .join()
        .expect("it ends");
    assert!(
        begun.elapsed() < Duration::from_secs(2),
        "{:?}",
        begun.elapsed()
    );
    read
}

#[test]
fn what_would_cost_too_much_is_refused_before_it_is_read() {
    let deep = |sign: &str, count: usize| sign.repeat(count);
    for text in [
        placement(&format!("template = \"{{{{ {}1 }}}}\"", deep("-", 7000))),
        placement(&format!("template = \"{{{{ {}1 }}}}\"", deep("(", 7000))),
        placement(&format!("template = \"{{{{ {}1 }}}}\"", deep("not ", 2000))),
        placement(&format!("template = \"{}\"", deep("{% if 1 %}", 3000))),
        placement(&format!("template = \"{}\"", deep("{{", 3000))),
        placement(&format!("template = \"x\"\nwhen = \"{}1\"", deep("[", 900))),
        placement(&format!(
            "template = \"x\"\nwhen = \"{}1\"",
            deep("1 if 1 else ", 150)
        )),
        placement(&format!("template = \"{}\"", deep("x", 100_000))),
        field(&format!("when = \"{}board\"", deep("-", 1900))),
        field(r#"pattern = "(((((a{200}){200}){200}){200}){200})""#),
        field(&format!("pattern = \"{}\"", deep("(a*)*", 300))),
        field(&format!("default = \"{}\"", deep("x", 70_000))),
        sheet(&format!("[card]\nsmallest_gb = {}", deep("[", 9000))),
        sheet(&format!("{}x = 1", deep("a.", 9000))),
        sheet(&format!("notes = {}", deep("\n[\n", 9000))),
        sheet(&format!("notes = \"{}\"", deep("x", 600_000))),
    ] {
        let refused = read(&text);
        assert!(refused.is_err(), "{}", &text[..text.len().min(200)]);
    }
    let path = format!("{}x", deep("d/", 2000));
    let refused = read(&sheet(&format!(
        "[[placements]]\npartition = \"boot\"\npath = \"{path}\"\ntemplate = \"x\""
    )));
    assert!(refused.unwrap_err().contains("folders"));
}

#[test]
fn a_template_that_goes_on_for_ever_or_fills_memory_ends() {
    let begun = Instant::now();
    for template in [
        "{% for a in range(9999) %}{% for b in range(9999) %}x{% endfor %}{% endfor %}",
        "{% set x = 'xxxxxxxxxxxxxxxx' * 1000000 %}{{ x }}{{ x }}",
        "{{ 'ab' * 100000000 }}",
    ] {
        let placement: Result<Placement, _> = toml::from_str(&format!(
            "partition = \"boot\"\npath = \"a\"\ntemplate = \"{template}\""
        ));
        let laid = lay_out(
            &[placement.unwrap()],
            &[],
            &Subject::default(),
            &mut |_, _| Ok(None),
        );
        assert!(laid.is_err(), "{template}");
    }
    assert!(
        begun.elapsed() < Duration::from_secs(5),
        "{:?}",
        begun.elapsed()
    );
}

fn values(pairs: &[(&str, &str)]) -> Settings {
    let pairs = pairs.iter();
    pairs.map(|(a, b)| ((*a).into(), (*b).into())).collect()
}

/// What a sheet shows of a token that was set as a secret, whatever it calls it now.
fn shown(kind: &str, placement: &str, token: &str) -> (Vec<String>, Vec<String>) {
    let text = sheet(&format!(
        "[[fields]]\nname = \"tok\"\nkind = \"{kind}\"\nlabel = \"Token\"\n\
         [[fields]]\nname = \"plain\"\nkind = \"text\"\nlabel = \"Plain\"\nwhen = \"tok[0] == 'P'\"\n\
         [[placements]]\npartition = \"boot\"\n{placement}"
    ));
    let sheet = read(&text).unwrap();
    let own = values(&[("tok", token), ("plain", "p")]);
    let sealed = BTreeSet::from(["tok".to_owned()]);
    let layer = Layer::device(&own).sealed(&sealed);
    let (values, problems) = effective(&sheet.fields, &[layer], &Subject::default());
    let mut seen: Vec<String> = values
        .iter()
        .map(|one| format!("{:?} {}", one.shown(&|_| MASK.into()), one.applies))
        .collect();
    seen.extend(problems.iter().map(ToString::to_string));
    let laid = lay_out(
        &sheet.placements,
        &values,
        &Subject::default(),
        &mut |_, _| Ok(None),
    );
    let mut paths = Vec::new();
    match laid {
        Ok(files) => {
            for one in files {
                seen.push(format!("{} {:?}", one.file.path, one.after));
                if let Change::Link(target) = &one.file.change {
                    seen.push(target.clone());
                }
                if let Change::File(bytes) = &one.file.change {
                    paths.push(String::from_utf8_lossy(bytes).into_owned());
                }
            }
        }
        Err(e) => seen.push(e.to_string()),
    }
    (seen, paths)
}

#[test]
fn nothing_that_is_shown_depends_on_a_secret_but_whether_it_is_set() {
    for kind in [
        "secret",
        "text",
        "list",
        "choice\"\nchoices = [\"PQ-tide\", \"XY-sand\"]#",
    ] {
        for placement in [
            "path = \"{% if tok[0] == 'P' %}p{% else %}x{% endif %}\"\ntemplate = \"{{ tok }}\"",
            "path = \"a\"\nwhen = \"tok[0] == 'P'\"\ntemplate = \"{{ tok }}\"",
            "path = \"a\"\nlink = \"{% if 'P' in tok %}p{% else %}x{% endif %}\"",
            "path = \"a\"\ntemplate = \"{{ tok }} {% if tok == 'PQ-tide' %}p{% endif %}\"",
            "path = \"a-{{ tok | length }}\"\ntemplate = \"x\"",
            "path = \"a\"\neach = \"tok\"\ntemplate = \"{{ number }}\"",
        ] {
            let kind = kind.trim_end_matches('#');
            let (kind, placement) = match kind.strip_suffix("]") {
                // The quoting of the choice ends with its list.
                Some(choice) => (format!("{choice}]\n#"), placement),
                None => (kind.to_owned(), placement),
            };
            let one = shown(&kind, placement, "PQ-tide").0;
            let two = shown(&kind, placement, "XY-sand").0;
            assert_eq!(one, two, "{kind}: {placement}");
            assert!(!one.iter().any(|text| text.contains("PQ-tide")), "{one:?}");
        }
    }
    // The file itself holds it, of course.
    let (_, files) = shown("text", "path = \"a\"\ntemplate = \"{{ tok }}\"", "PQ-tide");
    assert_eq!(files, ["PQ-tide"]);
}

#[test]
fn a_secret_of_dots_is_refused() {
    let text = sheet("[[fields]]\nname = \"tok\"\nkind = \"secret\"\nlabel = \"Token\"");
    let sheet = read(&text).unwrap();
    assert!(sheet.fields[0].check(MASK).is_err());
    assert!(sheet.fields[0].check("•").is_err());
    sheet.fields[0].check("a•").unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// Sheets put together from what sheets are made of, in any order and number.
    #[test]
    fn no_text_stops_the_reader(
        parts in proptest::collection::vec(
            (prop::sample::select(vec![
                "[[fields]]\n", "name = \"tok\"\n", "kind = \"text\"\n", "label = \"x\"\n", "pattern = \"", "when = \"",
                "[[placements]]\n", "partition = \"boot\"\n", "path = \"", "template = \"\"\"", "\"\"\"\n", "\"\n",
                "{{ ", " }}", "{% if ", " %}", "{% endif %}", "{% for a in ", "(", ")", "[", "]", "-", "not ", "tok",
                "(a+)+", "{200}", "a|", "\\", "|upper", ".x", "'", " = ", "\u{202e}", "\0", "edits = [",
            ]), 1_usize..40), 0..60)
    ) {
        let text: String = parts.iter().map(|(part, count)| part.repeat(*count)).collect();
        let _ = read(&text);
        let _ = read(&sheet(&text));
    }
}
