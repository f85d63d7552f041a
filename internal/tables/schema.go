// Package tables is what the ledger holds: its tables with their history, the statements that
// change them, the values of a row, and the rows that are under way there, directly or by the
// journal. It touches no file.
package tables

// tables makes a new ledger, as the steps below would. Times are nanoseconds
// since 1970, UTC.
const Schema = `
CREATE TABLE job (
	id              INTEGER PRIMARY KEY,
	rule            TEXT NOT NULL,
	file            TEXT NOT NULL, -- where it was taken
	watch           TEXT NOT NULL, -- the watched folder it was found in
	state           TEXT NOT NULL,
	event           TEXT NOT NULL,
	size            INTEGER NOT NULL,
	mtime           INTEGER NOT NULL,
	dev             INTEGER NOT NULL,
	ino             INTEGER NOT NULL,
	is_folder       INTEGER NOT NULL DEFAULT 0, -- 1 if a whole folder was taken
	hash            TEXT NOT NULL DEFAULT '',
	attempts        INTEGER NOT NULL DEFAULT 0,
	earlier         INTEGER NOT NULL DEFAULT 0, -- attempts before the job was last retried by hand
	taken_at        INTEGER NOT NULL,
	next_attempt    INTEGER NOT NULL DEFAULT 0, -- when the next attempt is due
	started_at      INTEGER NOT NULL DEFAULT 0, -- start of the first attempt
	ended_at        INTEGER NOT NULL DEFAULT 0,
	ran             INTEGER NOT NULL DEFAULT 0, -- nanoseconds of all attempts together
	exit_code       INTEGER, -- exit code of the last command
	reason          TEXT NOT NULL DEFAULT '',
	file_now        TEXT, -- where the input is now, NULL if nowhere
	chain           TEXT NOT NULL DEFAULT '', -- rules that the input went through before, comma-separated
	depth           INTEGER NOT NULL DEFAULT 0, -- depth of suspected descent from the rule's own jobs
	result          TEXT NOT NULL DEFAULT '', -- what its steps have to say
	first_event     INTEGER NOT NULL DEFAULT 0, -- when its first event came
	last            INTEGER NOT NULL DEFAULT 0, -- number of the newest attempt, which is here; the table attempt has those before
	last_started_at INTEGER NOT NULL DEFAULT 0,
	last_ended_at   INTEGER NOT NULL DEFAULT 0,
	last_exit_code  INTEGER,
	last_reason     TEXT NOT NULL DEFAULT '',
	last_cpu        INTEGER NOT NULL DEFAULT 0, -- nanoseconds
	last_memory     INTEGER NOT NULL DEFAULT 0, -- bytes, peak
	last_output     TEXT NOT NULL DEFAULT '', -- file with what was printed, below the state folder
	crashes         INTEGER NOT NULL DEFAULT 0, -- how often the watcher ended in the middle of an attempt
	old_file        TEXT NOT NULL DEFAULT ''  -- where it was before, if it was renamed
);
CREATE INDEX job_open ON job (rule, state, id) WHERE ended_at = 0;
CREATE INDEX job_file ON job (file, id);
CREATE INDEX job_now ON job (file_now) WHERE file_now <> file;
CREATE INDEX job_last ON job (rule, ended_at) WHERE ended_at > 0;
CREATE TABLE attempt (
	job        INTEGER NOT NULL,
	number     INTEGER NOT NULL,
	started_at INTEGER NOT NULL,
	ended_at   INTEGER NOT NULL DEFAULT 0,
	exit_code  INTEGER,
	reason     TEXT NOT NULL DEFAULT '',
	cpu        INTEGER NOT NULL DEFAULT 0, -- nanoseconds
	memory     INTEGER NOT NULL DEFAULT 0, -- bytes, peak
	output     TEXT NOT NULL DEFAULT '', -- file with what was printed, below the state folder
	PRIMARY KEY (job, number)
) WITHOUT ROWID;
CREATE TABLE placement (                -- one change to one file
	job         INTEGER NOT NULL,
	id          INTEGER NOT NULL,
	attempt     INTEGER NOT NULL,
	kind        TEXT NOT NULL, -- moved, duplicate, put, linked, trashed, deleted, tagged
	source      TEXT NOT NULL,
	target      TEXT NOT NULL,
	is_folder   INTEGER NOT NULL, -- 1 if it is a whole folder
	dev         INTEGER NOT NULL, -- the source, before
	ino         INTEGER NOT NULL,
	size        INTEGER NOT NULL,
	mtime       INTEGER NOT NULL,
	ctime       INTEGER NOT NULL,
	after_dev   INTEGER NOT NULL, -- the target, afterwards
	after_ino   INTEGER NOT NULL,
	after_size  INTEGER NOT NULL,
	after_mtime INTEGER NOT NULL,
	replaced    INTEGER NOT NULL, -- 1 if content was replaced
	kept        TEXT NOT NULL, -- where that is kept
	chained     INTEGER NOT NULL, -- 1 if a rule may take the target
	state       TEXT NOT NULL, -- intended, done, dropped, undoing, reverting, undone
	final_state TEXT NOT NULL, -- the state the job has afterwards, '' for a step
	mode        INTEGER NOT NULL DEFAULT 0, -- permission bits of the source, before
	made        INTEGER NOT NULL DEFAULT 0, -- folders that were made for the target, from its own upwards
	PRIMARY KEY (job, id)
) WITHOUT ROWID;
CREATE INDEX placement_chained ON placement (target) WHERE chained = 1;
CREATE INDEX placement_duplicate ON placement (target) WHERE kind = 'duplicate';
CREATE INDEX placement_reverting ON placement (id) WHERE state = 'reverting';
CREATE TABLE member (                   -- the other files of a batch or group, and markers
	job       INTEGER NOT NULL,
	number    INTEGER NOT NULL,
	file      TEXT NOT NULL,
	companion INTEGER NOT NULL, -- 1 for a marker: it goes along, and is no input
	size      INTEGER NOT NULL,
	mtime     INTEGER NOT NULL,
	dev       INTEGER NOT NULL,
	ino       INTEGER NOT NULL,
	file_now  TEXT,
	PRIMARY KEY (job, number)
) WITHOUT ROWID;
CREATE INDEX member_file ON member (file);
CREATE INDEX member_now ON member (file_now) WHERE file_now <> file;
CREATE TABLE known (                    -- files that stay where they are, or were left
	rule      TEXT NOT NULL,
	file      TEXT NOT NULL,
	size      INTEGER NOT NULL,
	mtime     INTEGER NOT NULL,
	dev       INTEGER NOT NULL,
	ino       INTEGER NOT NULL,
	is_folder INTEGER NOT NULL DEFAULT 0,
	hash      TEXT NOT NULL DEFAULT '',
	job       INTEGER NOT NULL,
	PRIMARY KEY (rule, file)
) WITHOUT ROWID;
CREATE TABLE content (                  -- what again: never has handled
	rule TEXT NOT NULL,
	hash TEXT NOT NULL,
	job  INTEGER NOT NULL,
	PRIMARY KEY (rule, hash)
) WITHOUT ROWID;
CREATE TABLE watched (                  -- folders that a rule has watched before
	rule   TEXT NOT NULL,
	folder TEXT NOT NULL,
	PRIMARY KEY (rule, folder)
) WITHOUT ROWID;
CREATE TABLE pause (                    -- rules that are paused; an empty name is all of them
	rule   TEXT PRIMARY KEY,
	paused INTEGER NOT NULL,
	since  INTEGER NOT NULL,
	until  INTEGER NOT NULL DEFAULT 0     -- when it goes on by itself; 0 for by hand
) WITHOUT ROWID;
CREATE TABLE dismissed (                -- failures that somebody has seen, after so many attempts
	job      INTEGER PRIMARY KEY,
	attempts INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX job_failed ON job (id) WHERE state = 'failed';
CREATE TABLE mount (                    -- the mount point that each folder lay on
	folder TEXT PRIMARY KEY,
	point  TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE tally (                    -- jobs by rule and state, history that was removed included
	rule  TEXT NOT NULL,
	state TEXT NOT NULL,
	jobs  INTEGER NOT NULL,
	PRIMARY KEY (rule, state)
) WITHOUT ROWID;
CREATE TABLE counter (                  -- the next numbers that must outlive their rows
	name  TEXT PRIMARY KEY,
	value INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO counter VALUES ('placement', 0);
CREATE TABLE boot (                     -- which start of the system the ledger was last used in
	one INTEGER PRIMARY KEY,
	id  TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE ticket (                   -- commands that are on their way through other machines
	ticket    TEXT PRIMARY KEY,
	job       INTEGER NOT NULL,
	attempt   INTEGER NOT NULL,
	step      INTEGER NOT NULL,
	pool      TEXT NOT NULL,
	content   TEXT NOT NULL, -- SHA-256 of what was handed over
	handed_at INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE identity (                 -- the ledger's name among those that use the same engine
	one INTEGER PRIMARY KEY,
	id  TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE folder (                   -- the folder of the rules file, when the ledger was used last
	one    INTEGER PRIMARY KEY,
	folder TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE rules_file (               -- the rules file of the last watcher or sweep, as seen from the ledger's folder
	one  INTEGER PRIMARY KEY,
	path TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE journal (                  -- rows that are durable and not yet in their tables, many in one
	id         INTEGER PRIMARY KEY,
	statements TEXT NOT NULL, -- JSON: the statements that write them, by number
	rows       BLOB NOT NULL -- the values; journal.go tells how
);
` + views

// views show the jobs and their attempts with times that a person can read.
const views = `CREATE VIEW jobs AS
SELECT id, rule, file, state, event, size, attempts, datetime(taken_at / 1000000000, 'unixepoch', 'localtime') AS taken_at,
	datetime(nullif(started_at, 0) / 1000000000, 'unixepoch', 'localtime') AS started_at, datetime(nullif(ended_at, 0) / 1000000000, 'unixepoch', 'localtime') AS ended_at,
	round(ran / 1e9, 3) AS ran_s, exit_code, reason, file_now
FROM job;
CREATE VIEW attempts AS
SELECT job, number, datetime(started_at / 1000000000, 'unixepoch', 'localtime') AS started_at, datetime(nullif(ended_at, 0) / 1000000000, 'unixepoch', 'localtime') AS ended_at,
	round(max(ended_at - started_at, 0) / 1e9, 3) AS ran_s, exit_code, reason, round(cpu / 1e9, 3) AS cpu_s, memory, output
FROM (SELECT job, number, started_at, ended_at, exit_code, reason, cpu, memory, output FROM attempt
	UNION ALL SELECT id, last, last_started_at, last_ended_at, last_exit_code, last_reason, last_cpu, last_memory, last_output FROM job WHERE last > 0);
`

// Migrations bring a ledger from each version to the next. A step that has
// been released is never changed.
var Migrations = []string{`
CREATE TABLE job (
	id       INTEGER PRIMARY KEY,
	rule     TEXT NOT NULL,
	file     TEXT NOT NULL,             -- where it was taken
	watch    TEXT NOT NULL,             -- the watched folder it was found in
	state    TEXT NOT NULL,
	event    TEXT NOT NULL,
	size     INTEGER NOT NULL,
	mod      INTEGER NOT NULL,
	dev      INTEGER NOT NULL,
	ino      INTEGER NOT NULL,
	dir      INTEGER NOT NULL DEFAULT 0, -- 1 if a whole folder was taken
	hash     TEXT NOT NULL DEFAULT '',
	attempts INTEGER NOT NULL DEFAULT 0,
	earlier  INTEGER NOT NULL DEFAULT 0, -- attempts before the job was last retried by hand
	taken    INTEGER NOT NULL,
	due      INTEGER NOT NULL DEFAULT 0, -- when the next attempt is due
	started  INTEGER NOT NULL DEFAULT 0, -- start of the first attempt
	ended    INTEGER NOT NULL DEFAULT 0,
	ran      INTEGER NOT NULL DEFAULT 0, -- nanoseconds of all attempts together
	exit     INTEGER,                    -- exit code of the last command
	reason   TEXT NOT NULL DEFAULT '',
	ends_in  TEXT,                       -- where the input is now, NULL if nowhere
	chain    TEXT NOT NULL DEFAULT '',   -- rules that the input went through before, comma-separated
	depth    INTEGER NOT NULL DEFAULT 0  -- depth of suspected descent from the rule's own jobs
);
CREATE INDEX job_open ON job (state, id) WHERE ended = 0;
CREATE INDEX job_file ON job (file, id);
CREATE INDEX job_rule ON job (rule, id);
CREATE INDEX job_ended ON job (ended) WHERE ended > 0;
CREATE INDEX job_last ON job (rule, ended) WHERE ended > 0;
CREATE TABLE attempt (
	job     INTEGER NOT NULL,
	number  INTEGER NOT NULL,
	started INTEGER NOT NULL,
	ended   INTEGER NOT NULL DEFAULT 0,
	exit    INTEGER,
	reason  TEXT NOT NULL DEFAULT '',
	cpu     INTEGER NOT NULL DEFAULT 0, -- nanoseconds
	memory  INTEGER NOT NULL DEFAULT 0, -- bytes, peak
	output  TEXT NOT NULL DEFAULT '',   -- file with what was printed, below the state folder
	PRIMARY KEY (job, number)
) WITHOUT ROWID;
CREATE TABLE placement (
	id     INTEGER PRIMARY KEY,
	job    INTEGER NOT NULL,
	source TEXT NOT NULL,
	target TEXT NOT NULL,
	dev    INTEGER NOT NULL,
	ino    INTEGER NOT NULL,
	size   INTEGER NOT NULL,
	mod    INTEGER NOT NULL,
	change INTEGER NOT NULL,             -- ctime before the placement
	state  TEXT NOT NULL,                -- intended, done, dropped
	leads  TEXT NOT NULL                 -- the state the job has afterwards
);
CREATE INDEX placement_job ON placement (job);
CREATE INDEX placement_target ON placement (target);
CREATE TABLE content (                  -- what again: never has handled
	rule TEXT NOT NULL,
	hash TEXT NOT NULL,
	job  INTEGER NOT NULL,
	PRIMARY KEY (rule, hash)
) WITHOUT ROWID;
CREATE TABLE watched (                  -- folders that a rule has watched before
	rule   TEXT NOT NULL,
	folder TEXT NOT NULL,
	PRIMARY KEY (rule, folder)
) WITHOUT ROWID;
CREATE TABLE pause (                    -- rules that are paused; an empty name is all of them
	rule   TEXT PRIMARY KEY,
	paused INTEGER NOT NULL,
	since  INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE member (                   -- the other files of a batch or group, and markers
	job       INTEGER NOT NULL,
	number    INTEGER NOT NULL,
	file      TEXT NOT NULL,
	companion INTEGER NOT NULL,          -- 1 for a marker: it goes along, and is no input
	size      INTEGER NOT NULL,
	mod       INTEGER NOT NULL,
	dev       INTEGER NOT NULL,
	ino       INTEGER NOT NULL,
	ends_in   TEXT,
	PRIMARY KEY (job, number)
) WITHOUT ROWID;
CREATE TABLE mount (                    -- the mount point that each folder lay on
	folder TEXT PRIMARY KEY,
	point  TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE known (                    -- files that stay where they are, or were left
	rule TEXT NOT NULL,
	file TEXT NOT NULL,
	size INTEGER NOT NULL,
	mod  INTEGER NOT NULL,
	dev  INTEGER NOT NULL,
	ino  INTEGER NOT NULL,
	dir  INTEGER NOT NULL DEFAULT 0,
	hash TEXT NOT NULL DEFAULT '',
	job  INTEGER NOT NULL,
	PRIMARY KEY (rule, file)
) WITHOUT ROWID;
CREATE TABLE tally (                    -- jobs by rule and state, history that was removed included
	rule  TEXT NOT NULL,
	state TEXT NOT NULL,
	jobs  INTEGER NOT NULL,
	PRIMARY KEY (rule, state)
) WITHOUT ROWID;
`, `
ALTER TABLE job ADD COLUMN result TEXT NOT NULL DEFAULT ''; -- what its steps have to say
DROP INDEX job_rule;
DROP INDEX job_ended;
DROP INDEX placement_job;
DROP INDEX placement_target;
ALTER TABLE placement RENAME TO placement_1;
CREATE TABLE placement (                -- one change to one file
	job        INTEGER NOT NULL,
	id         INTEGER NOT NULL,
	attempt    INTEGER NOT NULL,
	kind       TEXT NOT NULL,            -- moved, twin, put, trashed, deleted, tagged
	source     TEXT NOT NULL,
	target     TEXT NOT NULL,
	dir        INTEGER NOT NULL,         -- 1 if it is a whole folder
	dev        INTEGER NOT NULL,         -- the source, before
	ino        INTEGER NOT NULL,
	size       INTEGER NOT NULL,
	mod        INTEGER NOT NULL,
	change     INTEGER NOT NULL,         -- ctime
	after_dev  INTEGER NOT NULL,         -- the target, afterwards
	after_ino  INTEGER NOT NULL,
	after_size INTEGER NOT NULL,
	after_mod  INTEGER NOT NULL,
	over       INTEGER NOT NULL,         -- 1 if content was replaced
	kept       TEXT NOT NULL,            -- where that is kept
	chained    INTEGER NOT NULL,         -- 1 if a rule may take the target
	state      TEXT NOT NULL,            -- intended, done, dropped, undoing, undone
	leads      TEXT NOT NULL,            -- the state the job has afterwards, '' for a step
	PRIMARY KEY (job, id)
) WITHOUT ROWID;
INSERT INTO placement SELECT job, id, 0, 'moved', source, target, 0, dev, ino, size, mod, change, dev, ino, size, mod, 0, '', 1, state, leads FROM placement_1;
DROP TABLE placement_1;
CREATE TABLE counter (                  -- the next numbers that must outlive their rows
	name  TEXT PRIMARY KEY,
	value INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO counter SELECT 'placement', coalesce(max(id), 0) FROM placement;
CREATE INDEX placement_chained ON placement (target) WHERE chained = 1;
CREATE INDEX placement_undoing ON placement (id) WHERE state = 'undoing';
`, `
ALTER TABLE job ADD COLUMN seen INTEGER NOT NULL DEFAULT 0; -- when its first event came
DROP INDEX job_open;
CREATE INDEX job_open ON job (rule, state, id) WHERE ended = 0;
`, `
CREATE TABLE journal (                  -- rows that are durable and not yet in their tables, many in one
	id         INTEGER PRIMARY KEY,
	statements TEXT NOT NULL,            -- JSON: the statements that write them, by number
	rows       BLOB NOT NULL             -- the values; journal.go tells how
);
`, `
ALTER TABLE job ADD COLUMN last INTEGER NOT NULL DEFAULT 0; -- number of the newest attempt, which is here; the table attempt has those before
ALTER TABLE job ADD COLUMN last_started INTEGER NOT NULL DEFAULT 0;
ALTER TABLE job ADD COLUMN last_ended INTEGER NOT NULL DEFAULT 0;
ALTER TABLE job ADD COLUMN last_exit INTEGER;
ALTER TABLE job ADD COLUMN last_reason TEXT NOT NULL DEFAULT '';
ALTER TABLE job ADD COLUMN last_cpu INTEGER NOT NULL DEFAULT 0;
ALTER TABLE job ADD COLUMN last_memory INTEGER NOT NULL DEFAULT 0;
ALTER TABLE job ADD COLUMN last_output TEXT NOT NULL DEFAULT '';
`, `
ALTER TABLE placement ADD COLUMN mode INTEGER NOT NULL DEFAULT 0; -- permission bits of the source, before
CREATE INDEX placement_twin ON placement (target) WHERE kind = 'twin';
ALTER TABLE job ADD COLUMN crashes INTEGER NOT NULL DEFAULT 0; -- how often the watcher ended in the middle of an attempt
CREATE TABLE boot (                     -- which start of the system the ledger was last used in
	one INTEGER PRIMARY KEY,
	id  TEXT NOT NULL
) WITHOUT ROWID;
`, `
DROP INDEX placement_twin;
ALTER TABLE job RENAME COLUMN mod TO mtime;
ALTER TABLE job RENAME COLUMN dir TO is_folder;
ALTER TABLE job RENAME COLUMN taken TO taken_at;
ALTER TABLE job RENAME COLUMN due TO next_attempt;
ALTER TABLE job RENAME COLUMN started TO started_at;
ALTER TABLE job RENAME COLUMN ended TO ended_at;
ALTER TABLE job RENAME COLUMN exit TO exit_code;
ALTER TABLE job RENAME COLUMN ends_in TO file_now;
ALTER TABLE job RENAME COLUMN seen TO first_event;
ALTER TABLE job RENAME COLUMN last_started TO last_started_at;
ALTER TABLE job RENAME COLUMN last_ended TO last_ended_at;
ALTER TABLE job RENAME COLUMN last_exit TO last_exit_code;
ALTER TABLE attempt RENAME COLUMN started TO started_at;
ALTER TABLE attempt RENAME COLUMN ended TO ended_at;
ALTER TABLE attempt RENAME COLUMN exit TO exit_code;
ALTER TABLE placement RENAME COLUMN dir TO is_folder;
ALTER TABLE placement RENAME COLUMN mod TO mtime;
ALTER TABLE placement RENAME COLUMN change TO ctime;
ALTER TABLE placement RENAME COLUMN after_mod TO after_mtime;
ALTER TABLE placement RENAME COLUMN over TO replaced;
ALTER TABLE placement RENAME COLUMN leads TO final_state;
ALTER TABLE placement ADD COLUMN made INTEGER NOT NULL DEFAULT 0; -- folders that were made for the target, from its own upwards
ALTER TABLE member RENAME COLUMN mod TO mtime;
ALTER TABLE member RENAME COLUMN ends_in TO file_now;
ALTER TABLE known RENAME COLUMN mod TO mtime;
ALTER TABLE known RENAME COLUMN dir TO is_folder;
UPDATE placement SET kind = 'duplicate' WHERE kind = 'twin';
UPDATE placement SET final_state = 'vanished' WHERE final_state = 'gone';
CREATE INDEX placement_duplicate ON placement (target) WHERE kind = 'duplicate';
UPDATE job SET state = 'settling' WHERE state = 'waiting';
UPDATE tally SET state = 'settling' WHERE state = 'waiting';
UPDATE job SET state = 'vanished' WHERE state = 'gone';
UPDATE tally SET state = 'vanished' WHERE state = 'gone';
INSERT INTO tally SELECT rule, 'reverted', count(*) FROM job WHERE reason = 'it was undone: its files are back where they came from' GROUP BY rule
	ON CONFLICT (rule, state) DO UPDATE SET jobs = jobs + excluded.jobs;
INSERT INTO tally SELECT rule, state, -count(*) FROM job WHERE reason = 'it was undone: its files are back where they came from' GROUP BY rule, state
	ON CONFLICT (rule, state) DO UPDATE SET jobs = jobs + excluded.jobs;
UPDATE job SET state = 'reverted' WHERE reason = 'it was undone: its files are back where they came from';
` + views, `
CREATE TABLE dismissed (                -- failures that somebody has seen, after so many attempts
	job      INTEGER PRIMARY KEY,
	attempts INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX job_failed ON job (id) WHERE state = 'failed';
`, `
ALTER TABLE pause ADD COLUMN until INTEGER NOT NULL DEFAULT 0; -- when it goes on by itself; 0 for by hand
ALTER TABLE job ADD COLUMN old_file TEXT NOT NULL DEFAULT ''; -- where it was before, if it was renamed
`, `
DROP INDEX placement_undoing;
CREATE INDEX placement_reverting ON placement (id) WHERE state = 'reverting';
`, `
CREATE TABLE ticket (                   -- commands that are on their way through other machines
	ticket    TEXT PRIMARY KEY,
	job       INTEGER NOT NULL,
	attempt   INTEGER NOT NULL,
	step      INTEGER NOT NULL,
	pool      TEXT NOT NULL,
	content   TEXT NOT NULL, -- SHA-256 of what was handed over
	handed_at INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE identity (                 -- the ledger's name among those that use the same engine
	one INTEGER PRIMARY KEY,
	id  TEXT NOT NULL
) WITHOUT ROWID;
`, `
CREATE INDEX job_now ON job (file_now) WHERE file_now <> file;
`, `
CREATE INDEX member_file ON member (file);
CREATE INDEX member_now ON member (file_now) WHERE file_now <> file;
`, `
CREATE TABLE folder (                   -- the folder of the rules file, when the ledger was used last
	one    INTEGER PRIMARY KEY,
	folder TEXT NOT NULL
) WITHOUT ROWID;
`, `
CREATE TABLE rules_file (               -- the rules file of the last watcher or sweep, as seen from the ledger's folder
	one  INTEGER PRIMARY KEY,
	path TEXT NOT NULL
) WITHOUT ROWID;
`}

// Paths are the columns that hold paths of files, or may: what is paused is a rule or a folder.
var Paths = []struct{ Table, Column string }{
	{"job", "file"}, {"job", "watch"}, {"job", "file_now"}, {"job", "old_file"},
	{"member", "file"}, {"member", "file_now"},
	{"placement", "source"}, {"placement", "target"}, {"placement", "kept"},
	{"known", "file"}, {"watched", "folder"}, {"mount", "folder"}, {"pause", "rule"},
}

// FirstJournal is the first version that has a journal.
const FirstJournal = 4

// Version is the newest schema this program knows.
var Version = len(Migrations)
