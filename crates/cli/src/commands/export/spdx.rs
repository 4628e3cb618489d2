//! SPDX 2.3 (ISO/IEC 5962), as JSON.

use std::collections::HashMap;

use serde::Serialize;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::Package;
use whodunit_core::queries::bill::Bill;

use super::{is_application, properties};
use crate::output::place;

/// What is not known, and not looked for.
const UNKNOWN: &str = "NOASSERTION";

/// A document.
#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Document {
    spdx_version: &'static str,
    data_license: &'static str,
    #[serde(rename = "SPDXID")]
    id: &'static str,
    name: String,
    document_namespace: String,
    creation_info: CreationInfo,
    packages: Vec<Element>,
    relationships: Vec<Relationship>,
}

#[derive(Debug, Serialize)]
struct CreationInfo {
    created: String,
    creators: [String; 1],
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Element {
    #[serde(rename = "SPDXID")]
    id: String,
    name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    version_info: Option<String>,
    download_location: &'static str,
    files_analyzed: bool,
    license_concluded: &'static str,
    license_declared: &'static str,
    copyright_text: &'static str,
    primary_package_purpose: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    source_info: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    comment: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    external_refs: Vec<ExternalRef>,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct ExternalRef {
    reference_category: &'static str,
    reference_type: &'static str,
    reference_locator: String,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Relationship {
    spdx_element_id: String,
    relationship_type: &'static str,
    related_spdx_element: String,
}

/// The document of a machine.
pub fn document(bill: &Bill, machine: &str, written_at: &str) -> Document {
    const WHOLE: &str = "SPDXRef-machine";
    let ids: HashMap<&ByteString, String> = (1..)
        .zip(&bill.packages)
        .map(|(number, package): (u32, &Package)| (&package.id, format!("SPDXRef-package-{number}")))
        .collect();
    let related = |from: &str, kind, to: &str| Relationship {
        spdx_element_id: from.to_owned(),
        relationship_type: kind,
        related_spdx_element: to.to_owned(),
    };
    let mut relationships = vec![related("SPDXRef-DOCUMENT", "DESCRIBES", WHOLE)];
    relationships.extend(bill.packages.iter().map(|package| related(WHOLE, "CONTAINS", &ids[&package.id])));
    for (package, needs) in &bill.needs {
        let needed = needs.iter().filter_map(|needed| ids.get(needed));
        relationships.extend(needed.map(|needed| related(&ids[package], "DEPENDS_ON", needed)));
    }
    let whole = Element { id: WHOLE.to_owned(), ..element(machine, "DEVICE") };
    let of_package = |package: &Package| Element { id: ids[&package.id].clone(), ..of_package(package) };
    // The name of a host has no letter that a URI cannot have.
    let host: String = machine.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    Document {
        spdx_version: "SPDX-2.3",
        data_license: "CC0-1.0",
        id: "SPDXRef-DOCUMENT",
        name: machine.to_owned(),
        document_namespace: format!("https://whodunit.example/spdx/{host}/{written_at}"),
        creation_info: CreationInfo {
            created: written_at.to_owned(),
            creators: [format!("Tool: whodunit-{}", env!("CARGO_PKG_VERSION"))],
        },
        packages: std::iter::once(whole).chain(bill.packages.iter().map(of_package)).collect(),
        relationships,
    }
}

fn element(name: &str, purpose: &'static str) -> Element {
    Element {
        id: String::new(),
        name: name.to_owned(),
        version_info: None,
        download_location: UNKNOWN,
        files_analyzed: false,
        license_concluded: UNKNOWN,
        license_declared: UNKNOWN,
        copyright_text: UNKNOWN,
        primary_package_purpose: purpose,
        source_info: None,
        comment: None,
        external_refs: Vec::new(),
    }
}

fn of_package(package: &Package) -> Element {
    let reference = |purl: &String| ExternalRef {
        reference_category: "PACKAGE-MANAGER",
        reference_type: "purl",
        reference_locator: purl.clone(),
    };
    let facts: Vec<String> =
        properties(package).into_iter().map(|one| format!("{}: {}", one.name, one.value)).collect();
    Element {
        version_info: package.version.as_ref().map(ToString::to_string),
        source_info: package.evidence.first().map(|evidence| format!("recorded in {}", place(evidence))),
        comment: Some(facts.join("\n")),
        external_refs: package.purl.iter().map(reference).collect(),
        ..element(&package.name.to_string(), if is_application(package) { "APPLICATION" } else { "LIBRARY" })
    }
}
