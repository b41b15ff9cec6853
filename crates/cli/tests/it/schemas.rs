//! What programs get as JSON is what the schemas in `docs/schemas/` say.

use crate::command::Museum;
use serde_json::Value;

fn schema(name: &str) -> Value {
    let file = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    serde_json::from_slice(&std::fs::read(file.join(format!("{name}.schema.json"))).unwrap()).unwrap()
}

/// The document fits, none of its keys is undocumented, and without any of them it would not fit.
fn fits(name: &str, document: &Value, why: &str) {
    let schema = schema(name);
    let validator = jsonschema::validator_for(&schema).unwrap();
    let errors: Vec<String> =
        validator.iter_errors(document).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert!(errors.is_empty(), "{name}, {why}: {errors:#?}");
    for key in document.as_object().unwrap().keys() {
        assert!(schema["properties"].get(key).is_some(), "{name} does not know {key}");
        let mut without = document.clone();
        without.as_object_mut().unwrap().remove(key);
        assert!(!validator.is_valid(&without), "{name} would do without {key}");
    }
}

#[test]
fn documents_are_what_their_schemas_say() {
    let museum = Museum::open(&[]);
    let proposed =
        include_str!("../../../../demo/proposed.toml").replace("ldaps://localhost:6360", &museum.url());
    museum.write("wrong.txt", "wrong");
    museum.write("proposed.toml", proposed.clone());
    museum.write("missing.toml", proposed.replace("OU=Partners", "OU=Nowhere"));
    museum.write("waiting.toml", proposed.replace("do = \"remove\" }", "do = \"remove\", after_days = 14 }"));
    let json = |arguments: &[&str]| -> Value {
        let run = museum.run(&[arguments, &["--format", "json"]].concat());
        serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{arguments:?}: {error}: {}", run.err))
    };
    for (name, arguments, why) in [
        ("preview", &["preview"][..], "whole"),
        ("preview", &["preview", "--settings", "missing.toml"], "with gaps"),
        ("preview", &["preview", "--settings", "waiting.toml"], "with days of grace"),
        ("preview", &["preview", "--only", "held", "--find", "grebe"], "a part"),
        ("why", &["why", "aibbotson"], "in"),
        ("why", &["why", "dpryce"], "a clash"),
        ("why", &["why", "wgrebe"], "held"),
        ("why", &["why", "Ottilie Brandreth"], "a stranger"),
        ("why", &["why", "gus.h"], "claimed by somebody"),
        ("why", &["why", "hvanish", "--settings", "waiting.toml"], "waiting"),
        ("settle", &["settle"], "clashes"),
        ("sign-in", &["sign-in", "aibbotson", "--without-password"], "in"),
        ("sign-in", &["sign-in", "aibbotson", "--password-file", "wrong.txt"], "refused"),
        ("sign-in", &["sign-in", "gfennimore", "--without-password"], "not selected"),
        ("sign-in", &["sign-in", "nobody", "--without-password"], "unknown"),
        ("audit", &["sign-in", "--audit"], "one try"),
        ("compare", &["compare", "proposed.toml"], "whole"),
        ("compare", &["compare", "missing.toml"], "with gaps"),
        ("compare", &["compare", "waiting.toml"], "with days of grace"),
    ] {
        fits(name, &json(arguments), why);
    }
}
