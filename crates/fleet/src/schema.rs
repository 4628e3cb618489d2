//! The published JSON Schema of the answers about a fleet, generated from the types.

use schemars::JsonSchema;
use schemars::generate::SchemaSettings;
use serde_json::Value;
use whodunit_core::queries::{Envelope, SCHEMA};

use crate::load::Loaded;
use crate::questions::changes::FleetChanges;
use crate::questions::drift::Drift;
use crate::questions::findings::Found;
use crate::questions::machines::Machines;
use crate::questions::outdated::Outdated;
use crate::questions::rare::Rare;
use crate::questions::versions::Versions;
use crate::questions::whereabouts::Whereabouts;

/// Any document; one more line for each new question.
#[derive(JsonSchema)]
#[schemars(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
enum Document {
    Load(Envelope<Loaded>),
    Machines(Envelope<Machines>),
    Where(Envelope<Whereabouts>),
    Versions(Envelope<Versions>),
    Findings(Envelope<Found>),
    Drift(Envelope<Drift>),
    Changes(Envelope<FleetChanges>),
    Rare(Envelope<Rare>),
    Outdated(Envelope<Outdated>),
}

/// The schema: JSON Schema, draft 2020-12.
#[must_use]
pub fn schema() -> Value {
    let settings = SchemaSettings::draft2020_12().for_serialize();
    let mut schema = settings.into_generator().into_root_schema_for::<Document>();
    schema.insert("title".to_owned(), "Documents of whodunit fleet".into());
    schema.insert("$comment".to_owned(), format!("Describes documents whose member `schema` is {SCHEMA}.").into());
    schema.remove("description");
    schema.to_value()
}
