//! The built program, driven from outside: on the demo workstation, on hostile trees, and beside the
//! real managers.

#![expect(clippy::disallowed_methods, reason = "builds trees, and starts the program and the managers that judge it")]
#![expect(clippy::disallowed_types, reason = "as above")]

mod arranged;
mod browse;
mod causes;
mod companions;
mod demo;
mod demo_check;
mod fleet;
mod fleet_stores;
mod gone_programs;
mod hostile;
mod hostile_homes;
mod hostile_records;
mod hostile_shells;
mod hostile_sources;
mod injection;
mod intact;
mod masked_modules;
mod proofs;
mod quay;
mod real_advice;
mod real_apt;
mod real_autoremove;
mod real_bills;
mod real_breakage;
mod real_catalogues;
mod real_changes;
mod real_closures;
mod real_dpkg;
mod real_flatpak;
mod real_fleet;
mod real_glib;
mod real_history;
mod real_impact;
mod real_languages;
mod real_loaders;
mod real_nix;
mod real_orders;
mod real_pacman;
mod real_plans;
mod real_python;
mod real_report;
mod real_rpm;
mod real_shells;
mod real_sources;
mod real_space;
mod real_squashfs;
mod real_tools;
mod real_versions;
mod sessions;
mod stand_in_catalogues;
mod stand_in_homes;
mod stand_in_records;
mod stand_in_snap;
mod stand_in_systems;
mod stand_in_tools;
mod start_up_sets;
mod support;
mod surroundings;
mod terminal;
mod trial;
mod unowned_versions;
mod upkeep;
