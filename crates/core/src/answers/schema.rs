//! The published JSON Schema of every document, generated from the types.

use schemars::JsonSchema;
use schemars::generate::SchemaSettings;
use serde_json::Value;

use super::across::Across;
use super::check::{Check, Conflicts};
use super::impact::Impact;
use super::inventory::{Inventory, Totals};
use super::launchers::Launchers;
use super::offers::Offers;
use super::owner::Owners;
use super::paths::Paths;
use super::shadows::Shadows;
use super::states::States;
use super::unowned::Unowned;
use super::verify::Verified;
use super::{Envelope, SCHEMA};
use crate::findings::catalogue::Explanations;

/// Any document; one more line for each new command.
#[derive(JsonSchema)]
#[schemars(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
enum Document {
    Inventory(Envelope<Inventory>),
    Totals(Envelope<Totals>),
    Owner(Envelope<Owners>),
    Launchers(Envelope<Launchers>),
    Offers(Envelope<Offers>),
    Paths(Envelope<Paths>),
    Shadows(Envelope<Shadows>),
    Across(Envelope<Across>),
    States(Envelope<States>),
    Unowned(Envelope<Unowned>),
    Check(Envelope<Check>),
    Conflicts(Envelope<Conflicts>),
    Explanations(Envelope<Explanations>),
    Impact(Envelope<Impact>),
    Verify(Envelope<Verified>),
}

/// The schema: JSON Schema, draft 2020-12.
#[must_use]
pub fn schema() -> Value {
    let settings = SchemaSettings::draft2020_12().for_serialize();
    let mut schema = settings.into_generator().into_root_schema_for::<Document>();
    schema.insert("title".to_owned(), "Documents of whodunit".into());
    schema.insert("$comment".to_owned(), format!("Describes documents whose member `schema` is {SCHEMA}.").into());
    schema.remove("description");
    schema.to_value()
}
