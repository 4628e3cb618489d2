//! Which packages of a simple installation need which.

use super::{InstalledPackage, SimpleInstallation};
use crate::backend::dependency_graph::{Need, TooManyWays, losers, noted, unmet, unneeded};
use crate::backend::{Inner, Relations, Requirement, Unmet, Unneeded};
use crate::model::{Evidence, Reason};

impl SimpleInstallation<'_> {
    fn declares(&self, number: u32, says: &str) -> Evidence {
        self.backend.need_evidence(&self.location, self.item(number), says)
    }

    fn noted<T>(&self, found: Result<T, TooManyWays>) -> Option<T> {
        noted(&self.host.root, &self.location.dir, found)
    }
}

impl Relations for SimpleInstallation<'_> {
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let nodes = self.backend.nodes(self.host, self.items())?;
        let lost = self.noted(losers(&nodes, removed, &|a, b| self.backend.order_of_needs(a, b)))?;
        Some(lost.into_iter().map(|(number, says)| (number, self.declares(number, &says))).collect())
    }

    fn unneeded(&self) -> Option<Unneeded> {
        if self.is_sealed() {
            return None;
        }
        let nodes = self.backend.nodes(self.host, self.items())?;
        let numbered = || (0..).zip(self.items());
        let wanted: Vec<u32> =
            numbered().filter(|(_, item)| item.reason != Reason::Dependency).map(|(number, _)| number).collect();
        let found = self.noted(unneeded(&nodes, &wanted, &|a, b| self.backend.order_of_needs(a, b)))?;
        let items: Vec<&InstalledPackage> = found.iter().map(|number| self.item(*number)).collect();
        let remedy = self.backend.remove_unneeded(&items)?;
        let evidence = |number: u32| {
            let item = self.item(number);
            let file = item.record_file(&self.location);
            (number, Evidence::at(file, "reason", format!("{} was installed as a dependency", item.name)))
        };
        Some(Unneeded { packages: found.into_iter().map(evidence).collect(), remedy: Some(remedy) })
    }

    fn unmet(&self) -> Option<Vec<Unmet>> {
        let nodes =
            if self.backend.demands_needs() { self.backend.nodes(self.host, self.items())? } else { return None };
        let found = self.noted(unmet(&nodes, &|a, b| self.backend.order_of_needs(a, b)))?;
        let one = |(package, need): (u32, &Need)| Unmet {
            package,
            says: need.says.clone(),
            any_of: need.any_of.clone(),
            evidence: self.declares(package, &need.says),
        };
        Some(found.into_iter().map(one).collect())
    }

    fn inner(&self, name: &[u8]) -> Vec<Inner> {
        self.backend.inner(self.host, self.items(), name)
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        let nodes = self.backend.nodes(self.host, self.items())?;
        let evidence = |number: u32, need: &Need| self.declares(number, &need.says);
        self.noted(Requirement::among(&nodes, &|a, b| self.backend.order_of_needs(a, b), &evidence))
    }
}
