//! CycloneDX 1.5 (ECMA-424), as JSON.

use serde::Serialize;
use whodunit_core::model::Package;
use whodunit_core::queries::bill::Bill;

use super::{Property, is_application, properties};
use crate::output::place;

/// A document.
#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Document {
    bom_format: &'static str,
    spec_version: &'static str,
    version: u32,
    metadata: Metadata,
    components: Vec<Component>,
    dependencies: Vec<Dependency>,
}

#[derive(Debug, Serialize)]
struct Metadata {
    timestamp: String,
    lifecycles: [Lifecycle; 1],
    tools: Tools,
    component: Component,
}

#[derive(Debug, Serialize)]
struct Lifecycle {
    phase: &'static str,
}

#[derive(Debug, Serialize)]
struct Tools {
    components: [Component; 1],
}

#[derive(Debug, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
struct Component {
    r#type: &'static str,
    bom_ref: String,
    name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    version: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    purl: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    properties: Vec<Property>,
    #[serde(skip_serializing_if = "Option::is_none")]
    evidence: Option<Found>,
}

/// How it is known, and where it lies.
#[derive(Debug, Serialize)]
struct Found {
    identity: Identity,
    occurrences: Vec<Occurrence>,
}

#[derive(Debug, Serialize)]
struct Identity {
    field: &'static str,
    confidence: f32,
    methods: Vec<Method>,
}

#[derive(Debug, Serialize)]
struct Method {
    technique: &'static str,
    confidence: f32,
    value: String,
}

#[derive(Debug, Serialize)]
struct Occurrence {
    location: String,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Dependency {
    r#ref: String,
    depends_on: Vec<String>,
}

/// The document of a machine.
pub fn document(bill: &Bill, machine: &str, written_at: &str) -> Document {
    let tool = Component {
        r#type: "application",
        bom_ref: "whodunit".to_owned(),
        name: "whodunit".to_owned(),
        version: Some(env!("CARGO_PKG_VERSION").to_owned()),
        ..Component::default()
    };
    let whole =
        Component { r#type: "device", bom_ref: "machine".to_owned(), name: machine.to_owned(), ..Component::default() };
    let of_package = |package: &Package| Dependency {
        r#ref: package.id.to_string(),
        depends_on: bill.needs.get(&package.id).into_iter().flatten().map(ToString::to_string).collect(),
    };
    Document {
        bom_format: "CycloneDX",
        spec_version: "1.5",
        version: 1,
        metadata: Metadata {
            timestamp: written_at.to_owned(),
            lifecycles: [Lifecycle { phase: "operations" }],
            tools: Tools { components: [tool] },
            component: whole,
        },
        components: bill.packages.iter().map(component).collect(),
        dependencies: bill.packages.iter().map(of_package).collect(),
    }
}

fn component(package: &Package) -> Component {
    let method = |evidence| Method { technique: "manifest-analysis", confidence: 1.0, value: place(evidence) };
    let identity = Identity {
        field: if package.purl.is_some() { "purl" } else { "name" },
        confidence: 1.0,
        methods: package.evidence.iter().map(method).collect(),
    };
    let occurrence = |path: &whodunit_core::bytes::ByteString| Occurrence { location: path.to_string() };
    Component {
        r#type: if is_application(package) { "application" } else { "library" },
        bom_ref: package.id.to_string(),
        name: package.name.to_string(),
        version: package.version.as_ref().map(ToString::to_string),
        purl: package.purl.clone(),
        properties: properties(package),
        evidence: Some(Found { identity, occurrences: package.commands.iter().map(occurrence).collect() }),
    }
}
