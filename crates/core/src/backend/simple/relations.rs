//! Who needs whom, from what each package declares.

use super::{InstalledPackage, SimpleBackend, SimpleInstallation};
use crate::backend::Relations;
use crate::backend::dependency_graph::{Node, losers};
use crate::model::Evidence;

impl<'s, K: SimpleBackend + 's> Relations for SimpleInstallation<'s, K> {
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let listed = self.backend.lists().and_then(|lists| lists.dependents(self.host, self.items(), removed));
        if listed.is_some() || !self.backend.reads_needs() {
            return listed;
        }
        let node = |(number, item): (u32, &InstalledPackage)| Node {
            number,
            offers: std::iter::once(&item.name).chain(&item.provides).map(|name| (name.to_vec(), None)).collect(),
            needs: item.needs.clone(),
        };
        let nodes: Vec<Node> = (0..).zip(self.items()).map(node).collect();
        let lost = losers(&nodes, removed, &|a, b| self.backend.order(a, b));
        let evidence = |(number, needs): (u32, String)| {
            let item = self.item(number);
            let file = item.evidence.first().map_or_else(|| self.location.dir.clone(), |one| one.file.clone());
            (number, Evidence::at(file, "requirement", format!("needs {needs}")))
        };
        Some(lost.into_iter().map(evidence).collect())
    }
}
