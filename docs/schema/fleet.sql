-- The relational schema of a fleet store, `whodunit-fleet/1`.
--
-- A snapshot refers to lists: the packages of a machine, what its names start, its findings, sources and files. A list
-- is stored once, however many snapshots have it, and so is everything that lists have. Every number that
-- identifies a row is the first 64 bits of a SHA-256 of its content, so that all stores agree about it.
--
-- Texts are compared byte by byte. Times are RFC 3339, UTC. `version_key` and `upstream_key` order versions: the first
-- within one manager, the second across managers, by plain comparison of their bytes.

CREATE TABLE machines (
    machine BIGINT PRIMARY KEY,
    -- A digest of the machine's id, or `host:NAME` where it has none.
    identity TEXT COLLATE "C" NOT NULL UNIQUE
);

CREATE TABLE snapshots (
    snapshot BIGINT PRIMARY KEY,
    machine BIGINT NOT NULL REFERENCES machines,
    taken_at TEXT COLLATE "C" NOT NULL,
    loaded_at TEXT COLLATE "C" NOT NULL,
    -- SHA-256 of the file it was loaded from.
    file_digest TEXT COLLATE "C" NOT NULL,
    host TEXT COLLATE "C",
    system TEXT COLLATE "C",
    written_by TEXT COLLATE "C" NOT NULL,
    -- How many records could not be read on the machine.
    losses BIGINT NOT NULL,
    -- How many packages it has, and how many pieces of software: several versions of one count once.
    packages BIGINT NOT NULL,
    software BIGINT NOT NULL,
    package_list BIGINT NOT NULL,
    winner_list BIGINT NOT NULL,
    source_list BIGINT NOT NULL,
    file_list BIGINT NOT NULL,
    -- NULL where the snapshot was taken without findings and newer versions.
    finding_list BIGINT,
    offer_list BIGINT
);
CREATE INDEX snapshots_of_machine ON snapshots (machine, taken_at, snapshot);
CREATE INDEX snapshots_with_packages ON snapshots (package_list);
CREATE INDEX snapshots_with_winners ON snapshots (winner_list);
CREATE INDEX snapshots_from_file ON snapshots (file_digest);

CREATE TABLE packages (
    package BIGINT PRIMARY KEY,
    -- The software: its manager and name. The release: its version, too.
    software BIGINT NOT NULL,
    release BIGINT NOT NULL,
    id TEXT COLLATE "C" NOT NULL,
    manager TEXT COLLATE "C" NOT NULL,
    scope TEXT COLLATE "C" NOT NULL,
    location TEXT COLLATE "C" NOT NULL,
    name TEXT COLLATE "C" NOT NULL,
    title TEXT COLLATE "C",
    version TEXT COLLATE "C",
    version_key BYTEA,
    upstream TEXT COLLATE "C",
    upstream_key BYTEA,
    arch TEXT COLLATE "C",
    kind TEXT COLLATE "C" NOT NULL,
    channel TEXT COLLATE "C",
    revision TEXT COLLATE "C",
    origin TEXT COLLATE "C",
    reason TEXT COLLATE "C" NOT NULL,
    status TEXT COLLATE "C" NOT NULL,
    held BIGINT NOT NULL,
    active BIGINT NOT NULL,
    size BIGINT
);
CREATE INDEX packages_by_name ON packages (name);
CREATE INDEX packages_by_title ON packages (title);
CREATE INDEX packages_by_software ON packages (software);
CREATE INDEX packages_by_release ON packages (release);

CREATE TABLE winners (
    winner BIGINT PRIMARY KEY,
    name TEXT COLLATE "C" NOT NULL,
    path TEXT COLLATE "C" NOT NULL,
    -- The id of the package that the file belongs to.
    owner TEXT COLLATE "C"
);
CREATE INDEX winners_by_name ON winners (name);
CREATE INDEX winners_by_owner ON winners (owner);

-- The contexts of users in which the same file wins.
CREATE TABLE contexts (
    contexts BIGINT NOT NULL,
    -- The user; empty for a context that is nobody's.
    who TEXT COLLATE "C" NOT NULL,
    context TEXT COLLATE "C" NOT NULL,
    PRIMARY KEY (contexts, who, context)
);

CREATE TABLE findings (
    finding BIGINT PRIMARY KEY,
    kind TEXT COLLATE "C" NOT NULL,
    severity TEXT COLLATE "C" NOT NULL,
    cause TEXT COLLATE "C" NOT NULL,
    subject TEXT COLLATE "C" NOT NULL,
    summary TEXT COLLATE "C" NOT NULL,
    -- The users in whose sessions it is so, separated by commas.
    users TEXT COLLATE "C" NOT NULL
);
CREATE INDEX findings_by_kind ON findings (kind);

CREATE TABLE sources (
    source BIGINT PRIMARY KEY,
    manager TEXT COLLATE "C" NOT NULL,
    scope TEXT COLLATE "C" NOT NULL,
    name TEXT COLLATE "C" NOT NULL,
    url TEXT COLLATE "C",
    enabled BIGINT NOT NULL,
    signed TEXT COLLATE "C" NOT NULL
);

-- Unowned programs, settings and start-up files.
CREATE TABLE files (
    file BIGINT PRIMARY KEY,
    path TEXT COLLATE "C" NOT NULL,
    -- What an unowned program is; `settings` for the others.
    kind TEXT COLLATE "C" NOT NULL,
    -- SHA-256, or its size and time where it is too large.
    content TEXT COLLATE "C"
);
CREATE INDEX files_by_path ON files (path);

-- The newest version that a source offers of an installed package.
CREATE TABLE offers (
    offer BIGINT PRIMARY KEY,
    package BIGINT NOT NULL,
    version TEXT COLLATE "C" NOT NULL,
    version_key BYTEA NOT NULL,
    source TEXT COLLATE "C"
);

CREATE TABLE package_lists (list BIGINT NOT NULL, item BIGINT NOT NULL, PRIMARY KEY (list, item)) /* WITHOUT ROWID */;
CREATE TABLE winner_lists (
    list BIGINT NOT NULL,
    item BIGINT NOT NULL,
    contexts BIGINT NOT NULL,
    PRIMARY KEY (list, item)
) /* WITHOUT ROWID */;
CREATE TABLE finding_lists (list BIGINT NOT NULL, item BIGINT NOT NULL, PRIMARY KEY (list, item)) /* WITHOUT ROWID */;
CREATE TABLE source_lists (list BIGINT NOT NULL, item BIGINT NOT NULL, PRIMARY KEY (list, item)) /* WITHOUT ROWID */;
CREATE TABLE file_lists (list BIGINT NOT NULL, item BIGINT NOT NULL, PRIMARY KEY (list, item)) /* WITHOUT ROWID */;
CREATE TABLE offer_lists (list BIGINT NOT NULL, item BIGINT NOT NULL, PRIMARY KEY (list, item)) /* WITHOUT ROWID */;
CREATE INDEX package_lists_with ON package_lists (item, list);
CREATE INDEX winner_lists_with ON winner_lists (item, list);
CREATE INDEX finding_lists_with ON finding_lists (item, list);
CREATE INDEX file_lists_with ON file_lists (item, list);

-- The packages and offers, numbered from 0 in the order in which they came into this store.
CREATE TABLE places (place BIGINT PRIMARY KEY, item BIGINT NOT NULL);

-- The same as in `package_lists` and `offer_lists`, each list as one value, for comparing whole lists: the places of what
-- it has, ascending, each as its difference from the one before, in LEB128.
CREATE TABLE packed_lists (list BIGINT PRIMARY KEY, items BYTEA NOT NULL);

-- On how many machines a piece of software, or a release, is now; made anew after each loading.
CREATE TABLE holders (
    -- `software` or `release`.
    what TEXT COLLATE "C" NOT NULL,
    number BIGINT NOT NULL,
    machines BIGINT NOT NULL,
    PRIMARY KEY (what, number)
) /* WITHOUT ROWID */;

-- The newest snapshot of each machine.
CREATE VIEW latest AS
    SELECT s.* FROM snapshots s
    WHERE NOT EXISTS (
        SELECT 1 FROM snapshots n
        WHERE n.machine = s.machine AND (n.taken_at, n.snapshot) > (s.taken_at, s.snapshot)
    );

-- What is installed now, machine by machine.
CREATE VIEW installed AS
    SELECT s.machine, s.host, s.taken_at, p.*
    FROM latest s JOIN package_lists l ON l.list = s.package_list JOIN packages p ON p.package = l.item;

-- Which file each name starts now, in which context of which user.
CREATE VIEW started AS
    SELECT s.machine, s.host, w.name, w.path, w.owner, c.who, c.context
    FROM latest s
    JOIN winner_lists l ON l.list = s.winner_list
    JOIN winners w ON w.winner = l.item
    JOIN contexts c ON c.contexts = l.contexts;

-- What is found now, machine by machine.
CREATE VIEW found AS
    SELECT s.machine, s.host, f.*
    FROM latest s JOIN finding_lists l ON l.list = s.finding_list JOIN findings f ON f.finding = l.item;

-- What could be upgraded now.
CREATE VIEW outdated AS
    SELECT s.machine, s.host, p.manager, p.scope, p.name, p.version, o.version AS newest, o.version_key AS newest_key,
        o.source, p.held
    FROM latest s
    JOIN offer_lists l ON l.list = s.offer_list
    JOIN offers o ON o.offer = l.item
    JOIN packages p ON p.package = o.package;
