package estate

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"ironseal/internal/disk"
	"ironseal/internal/store"
	"ironseal/internal/store/postgres"
	"ironseal/internal/store/sqlstore"
	"ironseal/pki/fault"
	"ironseal/pki/operator"
	"ironseal/pki/strict"
)

// HeadFile is the file of an estate's directory that notes the newest entry of records on a server.
const HeadFile = "records.head"

// PlaceOf is where the records of an estate are.
func PlaceOf(dir string, s Storage) store.Place {
	if postgres.IsURL(s.Records) {
		return store.Place{At: s.Records, Head: filepath.Join(dir, HeadFile)}
	}
	return store.File(filepath.Join(dir, s.Records))
}

// OnServer reports whether the records are a database on a server.
func (s Storage) OnServer() bool { return postgres.IsURL(s.Records) }

// recordsFile is the file of records of a new estate.
const recordsFile = "records.db"

// File is the file of the records; where they are on a server, the one that a copy of them has.
func (s Storage) File() string {
	if s.OnServer() {
		return recordsFile
	}
	return s.Records
}

// PointTo lets the settings of an estate say that its records are elsewhere, where nothing follows them yet. All else
// in
// the file stays.
func PointTo(dir string, d disk.Disk, records string) error {
	path := filepath.Join(dir, SettingsFile)
	data, err := disk.Read(path, 1<<20)
	if err != nil {
		return fmt.Errorf("settings: %w", err)
	}
	text, err := pointed(string(data), Storage{Records: records})
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return d.Replace(path, []byte(text), 0o644)
}

// pointed are settings that say that the records are elsewhere.
func pointed(settings string, to Storage) (string, error) {
	values := map[string]string{"records": to.Records, "read": to.Read}
	var lines []string
	section := false
	for line := range strings.SplitSeq(settings, "\n") {
		before, _, _ := strings.Cut(line, "=")
		name := strings.TrimSpace(before)
		if strings.HasPrefix(name, "[") {
			section = strings.HasPrefix(name, "[storage]")
		} else if value, known := values[name]; section && known {
			line = before + "= " + quoted(value)
			delete(values, name)
		}
		lines = append(lines, line)
		if section && strings.HasPrefix(name, "[storage]") {
			for _, key := range []string{"records", "read"} { // a missing key is added below the section's name
				if !strings.Contains(settings, "\n"+key) && values[key] != "" {
					lines = append(lines, key+" = "+quoted(values[key]))
					delete(values, key)
				}
			}
		}
	}
	if values["records"] != "" {
		lines = append(lines, "[storage]", "records = "+quoted(to.Records), "read = "+quoted(to.Read), "")
	}
	text := strings.Join(lines, "\n")
	var s Settings
	if err := strict.Read([]byte(text), &s); err != nil || s.Storage != to {
		return "", fault.New(fault.BadInput, "the section [storage] could not be changed: write records = %s there",
			quoted(to.Records))
	}
	return text, nil
}

// DatabaseRoles are the statements that make roles of a database by which it refuses what the roles of operators may
// not
// write. prefix begins their names.
func (e *Estate) DatabaseRoles(prefix string) (string, error) {
	if !e.Settings.Storage.OnServer() {
		return "", fault.New(fault.Refused, "the records are a file: who may write it is the file system's business")
	}
	if err := operator.CheckName(prefix); err != nil {
		return "", err
	}
	return postgres.Grants(e.Settings.Storage.Records, prefix)
}

// openRecords opens the estate's records. What only reads is given those of a follower, where that has all that this
// machine has seen: then it shows nothing older than it showed before.
func (e *Estate) openRecords(ctx context.Context, reading bool) (store.Store, error) {
	place := PlaceOf(e.Dir, e.Settings.Storage)
	if follower := e.Settings.Storage.Read; follower != "" && reading {
		s, err := OpenRecords(ctx, store.Place{At: follower, Head: place.Head})
		if err == nil {
			if err = s.Newer(ctx); err == nil {
				return s, nil
			}
			_ = s.Close() // the other server is asked
		}
	}
	return OpenRecords(ctx, place)
}

// OpenRecords opens records on their own, such as those of a backup.
func OpenRecords(ctx context.Context, place store.Place) (store.Store, error) {
	s, err := sqlstore.Open(ctx, place)
	if err != nil {
		return nil, err
	}
	return s, nil
}
