// Package history keeps what happened: events, tasks and readings, in one SQLite file in the home. Nothing that the data
// path needs is in it; when it cannot be written the service goes on and says so.
package history

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"modernc.org/sqlite" // the driver, in pure Go
	sqlite3 "modernc.org/sqlite/lib"

	"nidalo/core/event"
	"nidalo/core/state"
)

// Task is a piece of long work that ended.
type Task struct {
	ID      int64           `json:"id"`
	Array   string          `json:"array"`
	Kind    state.TaskKind  `json:"kind"`
	Disk    string          `json:"disk,omitempty"`
	Started time.Time       `json:"started"`
	Ended   time.Time       `json:"ended"`
	State   state.TaskState `json:"state"`
	Bytes   int64           `json:"bytes"`
	Moved   int64           `json:"moved_bytes"`
	Rate    float64         `json:"bytes_per_second"`
	Result  string          `json:"result,omitempty"`
}

// Reading is one number about a disk or an array at a time.
type Reading struct {
	Time  time.Time `json:"time"`
	Of    string    `json:"of"` // serial or path of a disk, or an array's name
	Name  string    `json:"name"`
	Value float64   `json:"value"`
}

// Filter chooses rows; zero fields choose all.
type Filter struct {
	Array, Disk, Kind string
	Since, Until      time.Time
	Limit             int // of the newest; 0: Usual
}

// Usual is how many rows are told when no limit was set.
const Usual = 100

// Full says whether something could not be written because the file system is full.
func Full(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && (e.Code() == sqlite3.SQLITE_FULL || e.Code() == sqlite3.SQLITE_IOERR_SHMSIZE) || errors.Is(err, syscall.ENOSPC)
}

// Damaged says whether an error means that the file is no history any more, or one that is spoiled.
func Damaged(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && (e.Code()&0xff == sqlite3.SQLITE_CORRUPT || e.Code()&0xff == sqlite3.SQLITE_NOTADB)
}

// SetAside gives a history that is not open another name, so that a new one can begin in its place, and returns that.
func SetAside(path string, now time.Time) (string, error) {
	aside := strings.TrimSuffix(path, ".db") + now.UTC().Format("-damaged-20060102-150405.db")
	var errs []error
	for _, end := range []string{"-shm", "-wal", ""} { // the file itself last: what is left of it beside would be taken for part of the new one
		if err := os.Rename(path+end, aside+end); err != nil && (end == "" || !errors.Is(err, os.ErrNotExist)) {
			errs = append(errs, err)
		}
	}
	return aside, errors.Join(errs...)
}

// Event says whether an event is one of those.
func (f Filter) Event(e event.Event) bool { return f.takes(e.Array, e.Disk, string(e.Kind), e.Time) }

// Task says whether a task is one of those.
func (f Filter) Task(t Task) bool { return f.takes(t.Array, t.Disk, string(t.Kind), t.Ended) }

func (f Filter) takes(array, disk, kind string, at time.Time) bool {
	return (f.Array == "" || array == f.Array) && strings.Contains(disk, f.Disk) && strings.HasPrefix(strings.ToLower(kind), strings.ToLower(f.Kind)) &&
		(f.Since.IsZero() || !at.Before(f.Since)) && (f.Until.IsZero() || at.Before(f.Until))
}

// Store is an open history.
type Store struct{ db *sql.DB }

const schema = `
CREATE TABLE IF NOT EXISTS events (id INTEGER PRIMARY KEY, time INTEGER NOT NULL, severity TEXT NOT NULL, kind TEXT NOT NULL,
  array TEXT NOT NULL, disk TEXT NOT NULL, detail TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS events_newest ON events (time, id);
CREATE INDEX IF NOT EXISTS events_array ON events (array, time, id);
CREATE TABLE IF NOT EXISTS tasks (id INTEGER PRIMARY KEY, array TEXT NOT NULL, kind TEXT NOT NULL, disk TEXT NOT NULL,
  started INTEGER NOT NULL, ended INTEGER NOT NULL, state TEXT NOT NULL, bytes INTEGER NOT NULL, moved INTEGER NOT NULL,
  rate REAL NOT NULL, result TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS tasks_newest ON tasks (ended, id);
CREATE TABLE IF NOT EXISTS readings (time INTEGER NOT NULL, of TEXT NOT NULL, name TEXT NOT NULL, value REAL NOT NULL);
CREATE INDEX IF NOT EXISTS readings_of ON readings (of, name, time);
CREATE INDEX IF NOT EXISTS readings_time ON readings (time);
PRAGMA user_version = 1;`

// OpenReadOnly opens a history that is there to read it. os.ErrNotExist: it is not.
func OpenReadOnly(path string) (*Store, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", uri(path)+"?mode=ro&_pragma=busy_timeout(5000)")
	if err != nil {
		return nil, err
	}
	return &Store{db}, nil
}

// uri is a path as SQLite takes one, whatever characters are in it.
func uri(path string) string { return (&url.URL{Scheme: "file", OmitHost: true, Path: path}).String() }

// Open opens the history in a file, which only its owner can read, and makes it if there is none.
func Open(path string) (*Store, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	_ = f.Close()
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		if err := os.Chmod(name, 0o600); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	db, err := sql.Open("sqlite", uri(path)+"?_pragma=journal_mode(WAL)&_pragma=busy_timeout(5000)&_pragma=synchronous(NORMAL)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(2)
	var version int
	if err := db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if version > 1 {
		_ = db.Close()
		return nil, fmt.Errorf("%s: written by a newer version of this program (%d)", path, version)
	}
	if _, err := db.Exec(schema); err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return &Store{db}, nil
}

// Close closes the file.
func (s *Store) Close() error { return s.db.Close() }

// AddEvent adds an event and returns its number.
func (s *Store) AddEvent(e event.Event) (int64, error) {
	r, err := s.db.Exec("INSERT INTO events (time, severity, kind, array, disk, detail) VALUES (?,?,?,?,?,?)",
		e.Time.UnixNano(), e.Severity, e.Kind, e.Array, e.Disk, e.Detail)
	if err != nil {
		return 0, err
	}
	return r.LastInsertId()
}

// AddTask adds a task that ended.
func (s *Store) AddTask(t Task) error {
	_, err := s.db.Exec("INSERT INTO tasks (array, kind, disk, started, ended, state, bytes, moved, rate, result) VALUES (?,?,?,?,?,?,?,?,?,?)",
		t.Array, t.Kind, t.Disk, t.Started.UnixNano(), t.Ended.UnixNano(), t.State, t.Bytes, t.Moved, t.Rate, t.Result)
	return err
}

// AddReadings adds readings, all or none.
func (s *Store) AddReadings(rs []Reading) error {
	tx, err := s.db.BeginTx(context.Background(), nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, r := range rs {
		if _, err := tx.Exec("INSERT INTO readings (time, of, name, value) VALUES (?,?,?,?)", r.Time.UnixNano(), r.Of, r.Name, r.Value); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// where makes the condition of a filter; column is the one that holds the time.
func (f Filter) where(column string) (string, []any) {
	var parts []string
	var args []any
	add := func(part string, arg any) { parts, args = append(parts, part), append(args, arg) }
	if f.Array != "" {
		add("array = ?", f.Array)
	}
	if f.Disk != "" {
		add("instr(disk, ?) > 0", f.Disk)
	}
	if f.Kind != "" {
		add("kind LIKE ? ESCAPE '\\'", strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Kind)+"%")
	}
	if !f.Since.IsZero() {
		add(column+" >= ?", f.Since.UnixNano())
	}
	if !f.Until.IsZero() {
		add(column+" < ?", f.Until.UnixNano())
	}
	where := ""
	if len(parts) > 0 {
		where = " WHERE " + strings.Join(parts, " AND ")
	}
	limit := f.Limit
	if limit <= 0 {
		limit = Usual
	}
	return where + fmt.Sprintf(" ORDER BY %s DESC, id DESC LIMIT %d", column, limit), args
}

// Events lists events, oldest first, of the newest that match.
func (s *Store) Events(f Filter) ([]event.Event, error) {
	where, args := f.where("time")
	rows, err := s.db.Query("SELECT id, time, severity, kind, array, disk, detail FROM events"+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []event.Event{}
	for rows.Next() {
		var e event.Event
		var at int64
		if err := rows.Scan(&e.ID, &at, &e.Severity, &e.Kind, &e.Array, &e.Disk, &e.Detail); err != nil {
			return nil, err
		}
		e.Time = time.Unix(0, at)
		out = append(out, e)
	}
	slices.Reverse(out)
	return out, rows.Err()
}

// Tasks lists tasks that ended, oldest first, of the newest that match.
func (s *Store) Tasks(f Filter) ([]Task, error) {
	where, args := f.where("ended")
	rows, err := s.db.Query("SELECT id, array, kind, disk, started, ended, state, bytes, moved, rate, result FROM tasks"+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []Task{}
	for rows.Next() {
		var t Task
		var started, ended int64
		if err := rows.Scan(&t.ID, &t.Array, &t.Kind, &t.Disk, &started, &ended, &t.State, &t.Bytes, &t.Moved, &t.Rate, &t.Result); err != nil {
			return nil, err
		}
		t.Started, t.Ended = time.Unix(0, started), time.Unix(0, ended)
		out = append(out, t)
	}
	slices.Reverse(out)
	return out, rows.Err()
}

// Readings lists readings of one thing by name, oldest first. With most above 0 at most about so many: the highest of each
// of as many stretches of time.
func (s *Store) Readings(of, name string, since time.Time, most int) ([]Reading, error) {
	step := int64(1)
	if most > 0 {
		step = max(1, int64(time.Since(since))/int64(most))
	}
	rows, err := s.db.Query("SELECT max(time), max(value) FROM readings WHERE of = ? AND name = ? AND time >= ? GROUP BY time / ? ORDER BY 1", of, name, since.UnixNano(), step)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []Reading{}
	for rows.Next() {
		r := Reading{Of: of, Name: name}
		var at int64
		if err := rows.Scan(&at, &r.Value); err != nil {
			return nil, err
		}
		r.Time = time.Unix(0, at)
		out = append(out, r)
	}
	return out, rows.Err()
}

// Forget drops what is older than a time.
func (s *Store) Forget(before time.Time) error {
	for _, q := range []string{"DELETE FROM events WHERE time < ?", "DELETE FROM tasks WHERE ended < ?", "DELETE FROM readings WHERE time < ?"} {
		if _, err := s.db.Exec(q, before.UnixNano()); err != nil {
			return err
		}
	}
	return nil
}
