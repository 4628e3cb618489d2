//! Launchers.

use super::Look;
use crate::answers::launchers::{Session, launchers};
use crate::model::Finding;
use crate::search::Context;
use crate::search::launchers::data_folders;

/// What the menu shows of the launchers, and what it cannot.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let folders = data_folders(look.survey.scene, None);
    let of_desktop = look.searches.iter().find(|search| search.context == Context::Desktop);
    let search = of_desktop.unwrap_or(look.typed());
    let session = Session { folders: &folders, desktops: &[], search };
    launchers(look.survey, session, &[]).launchers.into_iter().flat_map(|launcher| launcher.findings).collect()
}
