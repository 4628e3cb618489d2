//! What the distribution's managers wrote down of a few of the machine's packages: who asked for what, when. Times are
//! in UTC, for the machine has no zone of its own.

use crate::WriteError;
use crate::machine::SET_UP;
use crate::tree::Tree;

const DPKG: &str = "\
2026-01-13 08:00:04 startup archives unpack
2026-01-13 08:00:05 install tidegauge:amd64 <none> 3.1.2-1
2026-01-13 08:00:06 status installed tidegauge:amd64 3.1.2-1
2026-01-14 07:30:11 install pilotbook:amd64 <none> 5.0-4
2026-01-21 06:00:40 upgrade tidegauge:amd64 3.1.2-1 3.1.4-2
2026-01-21 06:00:41 status installed tidegauge:amd64 3.1.4-2
2026-01-21 19:12:30 install ferryboard:amd64 <none> 0.8.2-1
2026-01-22 07:45:02 remove pilotbook:amd64 5.0-4 <none>
";
const APT: &str = "
Start-Date: 2026-01-13  08:00:02
Commandline: apt-get install tidegauge
Requested-By: maren (1000)
Install: tidegauge:amd64 (3.1.2-1)
End-Date: 2026-01-13  08:00:07

Start-Date: 2026-01-14  07:30:10
Commandline: apt-get install pilotbook
Requested-By: tobin (1001)
Install: pilotbook:amd64 (5.0-4)
End-Date: 2026-01-14  07:30:12

Start-Date: 2026-01-21  06:00:38
Commandline: /usr/bin/unattended-upgrade
Upgrade: tidegauge:amd64 (3.1.2-1, 3.1.4-2)
End-Date: 2026-01-21  06:00:42

Start-Date: 2026-01-22  07:45:01
Commandline: apt-get remove pilotbook
Requested-By: maren (1000)
Remove: pilotbook:amd64 (5.0-4)
End-Date: 2026-01-22  07:45:03
";

/// Writes the logs.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    const DAY: i64 = 86_400;
    tree.file("var/log/dpkg.log", DPKG.as_bytes(), 0o644, SET_UP + 10 * DAY)?;
    tree.file("var/log/apt/history.log", APT.as_bytes(), 0o644, SET_UP + 10 * DAY)
}
