//! Which packages of a simple installation need which.

use super::{SimpleBackend, SimpleInstallation};
use crate::backend::dependency_graph::{Need, losers};
use crate::backend::{Relations, Requirement};
use crate::model::Evidence;

impl<'s, K: SimpleBackend + 's> SimpleInstallation<'s, K> {
    fn declares(&self, number: u32, says: &str) -> Evidence {
        self.backend.need_evidence(&self.location, self.item(number), says)
    }
}

impl<'s, K: SimpleBackend + 's> Relations for SimpleInstallation<'s, K> {
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let nodes = self.backend.nodes(self.host, self.items())?;
        let lost = losers(&nodes, removed, &|a, b| self.backend.order_of_needs(a, b));
        Some(lost.into_iter().map(|(number, says)| (number, self.declares(number, &says))).collect())
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        let nodes = self.backend.nodes(self.host, self.items())?;
        let evidence = |number: u32, need: &Need| self.declares(number, &need.says);
        Some(Requirement::among(&nodes, &|a, b| self.backend.order_of_needs(a, b), &evidence))
    }
}
