//! The JSON Schemas of the reports (JSON Schema 2020-12), as they stand in `docs/reference/schema/`.

use std::path::Path;

use schemars::{JsonSchema, Schema, schema_for};
use serde_json::Value;

/// As the engine says it.
#[derive(JsonSchema)]
#[schemars(rename_all = "kebab-case")]
#[expect(dead_code, reason = "only its schema counts")]
pub(super) enum Standing {
    Differs,
    Missing,
    Extra,
    LeftOut,
    Own,
    OfAnotherRoute,
}

/// As the engine says it.
#[derive(JsonSchema)]
#[expect(dead_code, reason = "only its schema counts")]
pub(super) struct Difference {
    field: String,
    occurrence: String,
    wanted: String,
    found: String,
}

/// As the state says it.
#[derive(JsonSchema)]
#[expect(dead_code, reason = "only its schema counts")]
pub(super) struct Counts {
    created: usize,
    updated: usize,
    deleted: usize,
}

/// As the state says it.
#[derive(JsonSchema)]
#[schemars(rename_all = "lowercase")]
#[expect(dead_code, reason = "only its schema counts")]
pub(super) enum RunResult {
    Ok,
    Failed,
    Held,
}

fn schemas() -> Vec<(&'static str, Schema)> {
    vec![
        ("account-add", schema_for!(super::account_add::Report)),
        ("account-forget", schema_for!(super::account_forget::Report)),
        ("account-list", schema_for!(super::account_list::Report)),
        ("account-login", schema_for!(super::account_login::Report)),
        ("account-move", schema_for!(super::account_move::Report)),
        ("account-password", schema_for!(super::account_password::Report)),
        ("account-pause", schema_for!(super::account_pause::Report)),
        ("account-test", schema_for!(super::account_test::Report)),
        ("agenda", schema_for!(Vec<super::agenda::Line>)),
        ("calendar-add", schema_for!(super::calendar_add::Report)),
        ("calendar-create", schema_for!(super::calendar_create::Report)),
        ("calendar-forget", schema_for!(super::calendar_forget::Report)),
        ("calendar-list", schema_for!(super::calendar_list::Report)),
        ("calendar-doubles", schema_for!(super::tidy::Report)),
        ("calendar-rename", schema_for!(super::calendar_rename::Report)),
        ("check", schema_for!(super::check::Report)),
        ("check-bundle", schema_for!(super::bundle::Bundle)),
        ("compare", schema_for!(super::compare::Report)),
        ("demo", schema_for!(super::demo::Report)),
        ("free", schema_for!(super::free::Report)),
        ("held", schema_for!(super::held::Report)),
        ("history", schema_for!(super::history::Report)),
        ("init", schema_for!(super::init::Report)),
        ("preview", schema_for!(super::preview::Report)),
        ("preview-text", schema_for!(super::preview_text::Report)),
        ("probe", schema_for!(super::probe::Report)),
        ("route-list", schema_for!(super::route::Report)),
        ("route-show", schema_for!(super::route::Shown)),
        ("route-edit", schema_for!(super::route_edit::Report)),
        ("route-rename", schema_for!(super::route_edit::Renamed)),
        ("route-retire", schema_for!(super::route::Retired)),
        ("report", schema_for!(super::overview::Report)),
        ("restore", schema_for!(super::snapshot::Restored)),
        ("snapshot", schema_for!(super::snapshot::Report)),
        ("state", schema_for!(super::state::Report)),
        ("status", schema_for!(super::status::Report)),
        ("sync", schema_for!(super::sync::Report)),
        ("undo", schema_for!(super::undo::Report)),
        ("why", schema_for!(super::why::Report)),
    ]
}

/// Nothing that the schema does not name is printed.
fn close(value: &mut Value) {
    match value {
        Value::Object(object) => {
            if object.contains_key("properties") {
                object.insert("additionalProperties".to_owned(), Value::Bool(false));
            }
            object.values_mut().for_each(close);
        }
        Value::Array(list) => list.iter_mut().for_each(close),
        _ => {}
    }
}

/// `CHESTNUT_WRITE_SCHEMAS=1` writes them.
#[test]
fn the_schemas_are_those_of_the_reports() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference/schema");
    let writes = std::env::var_os("CHESTNUT_WRITE_SCHEMAS").is_some();
    for (name, schema) in schemas() {
        let mut value = schema.to_value();
        close(&mut value);
        value["title"] = Value::String(format!("chestnut {} --json", name.replace('-', " ")));
        let text = format!("{:#}\n", value);
        let path = folder.join(format!("{name}.json"));
        if writes {
            std::fs::create_dir_all(&folder).expect("a folder");
            std::fs::write(&path, &text).expect("written");
        }
        let stands = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(stands == text, "{name}: write it anew with CHESTNUT_WRITE_SCHEMAS=1");
    }
}
