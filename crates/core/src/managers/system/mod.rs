//! Managers of whole systems: those with which a distribution installs itself.

pub mod apk;
pub mod dpkg;
pub mod eopkg;
pub mod fwupd;
pub mod opkg;
pub mod pacman;
pub mod portage;
pub mod rpm;
pub mod slackware;
pub mod sysext;
pub mod xbps;
