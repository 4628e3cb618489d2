//! The published JSON Schema of every document, generated from the types.

use schemars::JsonSchema;
use schemars::generate::SchemaSettings;
use serde_json::Value;

use crate::checks::catalogue::Explanations;
use crate::checks::leftovers::{Leftovers, SpaceAnswer};
use crate::checks::{Check, Conflicts};
use crate::history::{Compared, KeptSnapshots, Snapshot};
use crate::plans::Plan;
use crate::queries::across::Across;
use crate::queries::impact::Impact;
use crate::queries::inventory::{Inventory, Totals};
use crate::queries::launchers::Launchers;
use crate::queries::offers::Offers;
use crate::queries::owner::Owners;
use crate::queries::paths::Paths;
use crate::queries::search::SearchAnswer;
use crate::queries::shadows::Shadows;
use crate::queries::sources::Sources;
use crate::queries::states::States;
use crate::queries::timeline::Timeline;
use crate::queries::unowned::Unowned;
use crate::queries::upkeep::Upkept;
use crate::queries::verify::Verified;
use crate::queries::why::Why;
use crate::queries::{Envelope, SCHEMA};

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
    Search(Envelope<SearchAnswer>),
    Sources(Envelope<Sources>),
    States(Envelope<States>),
    Timeline(Envelope<Timeline>),
    Unowned(Envelope<Unowned>),
    Upkeep(Envelope<Upkept>),
    Check(Envelope<Check>),
    Conflicts(Envelope<Conflicts>),
    Leftovers(Envelope<Leftovers>),
    Plan(Envelope<Plan>),
    Explanations(Envelope<Explanations>),
    Impact(Envelope<Impact>),
    Why(Envelope<Why>),
    Space(Envelope<SpaceAnswer>),
    Verify(Envelope<Verified>),
    Snapshots(Envelope<KeptSnapshots>),
    Compared(Envelope<Compared>),
}

/// The schema of the document in which a snapshot is kept: JSON Schema, draft 2020-12.
#[must_use]
pub fn snapshot_schema() -> Value {
    let settings = SchemaSettings::draft2020_12().for_serialize();
    let mut schema = settings.into_generator().into_root_schema_for::<Snapshot>();
    schema.insert("title".to_owned(), "A snapshot of a machine, as whodunit keeps it".into());
    schema.to_value()
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
