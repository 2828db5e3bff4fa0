// Package estate is the directory that an administrator works in: its settings,
// its templates and receivers, its keys and its records, and the world outside
// that acts depend on: clock, randomness, disk and the person who acts.
//
// It finds, opens and makes estates, and answers what is held there. What changes
// an estate is an act, and stands in the packages of internal/act.
//
// Nothing here prints or asks. Passphrases come through custody's interface,
// progress goes to a function, time and randomness come from the Env.
package estate

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/keystore/keyfiles"
	"ironseal/internal/keystore/sshagent"
	"ironseal/internal/store"
	"ironseal/internal/store/sqlstore"
	"ironseal/pki/advice"
	"ironseal/pki/dn"
	"ironseal/pki/fault"
	"ironseal/pki/kit"
	"ironseal/pki/pbes"
	"ironseal/pki/receiver"
	"ironseal/pki/strict"
	"ironseal/pki/template"
)

// SettingsFile is the file that makes a directory an estate.
const SettingsFile = "ironseal.toml"

// Env is everything outside the estate that its acts depend on.
type Env struct {
	Now      func() time.Time
	Random   io.Reader
	Disk     disk.Disk
	Actor    Identity // who acts, unless As says otherwise
	Pass     keystore.Passphrases
	Operator OperatorKeys                    // the keys of the person at this machine; nil for none
	Agent    *sshagent.Agent                 // that may hold keys of authorities; nil for none
	Progress func(what string) (done func()) // shows that long work is going on
	Step     func(name string) error         // called between the steps of an act, for tests
	// Inspecting opens records that must not be used, to find out what is wrong with them: those that were
	// moved, or that lack what this machine knows of.
	Inspecting bool
	// Reading lets records be read from a server that follows the one which they are written to.
	Reading bool
	// PlannedAt is the moment for which plans are made; zero for now. What others agreed to is planned for the moment
	// at
	// which it was proposed.
	PlannedAt time.Time
	Approved  *Approval // what is being done was agreed to; nil where one alone acts
	Approvals Approvals // how many must agree to what
	// Spell writes a next step for people, in files that acts write: instructions, reports, calendars.
	Spell func(advice.Step) string
}

// Filled gives an Env whatever it lacks.
func (w Env) Filled() Env {
	if w.Now == nil {
		w.Now = time.Now
	}
	if w.Random == nil {
		w.Random = rand.Reader
	}
	if w.Actor.Name == "" {
		w.Actor.Name = "unknown"
	}
	if w.Progress == nil {
		w.Progress = func(string) func() { return func() {} }
	}
	if w.Spell == nil {
		w.Spell = func(s advice.Step) string { return s.Words }
	}
	if w.Step == nil {
		w.Step = func(string) error { return nil }
	}
	return w
}

// Steps are the names that Step is called with: those of the way of a signature, in order, and those of others.
const (
	StepPlanned    = "planned"
	StepKeyMade    = "key made"
	StepKeyKept    = "key kept"
	StepOpened     = "key opened"
	StepSigned     = "signed"
	StepRecording  = "recording"  // records written, not committed
	StepRecorded   = "recorded"   // committed
	StepHandingOut = "handed out" // files written

	StepSnapshot = "snapshot" // a backup has its copy of the records, and reads the other files next
)

// Estate is an open estate.
type Estate struct {
	Dir      string
	Settings Settings
	// Rehearsal says that this is a throwaway copy: its clock may be moved, and
	// everything it makes is marked.
	Rehearsal bool

	Env     Env
	Records store.Store
	Keys    keystore.Keystore
}

// ErrNone says that no estate was found.
var ErrNone = errors.New("there is no estate here")

// Find returns the estate directory: dir when it is given, else the nearest
// directory from here upward that holds an ironseal.toml. One that was not named is
// refused when someone else could have put it there.
func Find(dir, here string) (string, error) {
	if dir != "" {
		if _, err := os.Stat(filepath.Join(dir, SettingsFile)); err != nil {
			return "", fault.New(fault.NotFound, "%s: %w (no %s in it)", dir, ErrNone,
				SettingsFile).On(fault.Estate.Named("%s", dir)).
				Then(advice.To("make one", advice.CreateEstate, "folder", dir))
		}
		return dir, nil
	}
	at, err := filepath.Abs(here)
	if err != nil {
		return "", err
	}
	for {
		if _, err := os.Stat(filepath.Join(at, SettingsFile)); err == nil {
			for _, p := range []string{at, filepath.Join(at, SettingsFile)} {
				if why := disk.Untrusted(p); why != "" {
					next := advice.List{advice.To("name it", advice.NameEstate, "folder", at)}
					if disk.Mine(p) {
						next = append(next, advice.Say("or mend it with: "+disk.Guarding(p)))
					}
					return "", fault.New(fault.Refused, "%s: there is an estate, and it is not used unless you name "+
						"it: %s: %s", at,
						p, why).On(fault.Estate.Named("%s", at)).Then(next...)
				}
			}
			return at, nil
		}
		up := filepath.Dir(at)
		if up == at {
			return "", fault.New(fault.NotFound, "%w, nor in any directory above", ErrNone).Then(
				advice.To("name it", advice.NameEstate, "folder", "DIR"), advice.To("or make one", advice.CreateEstate,
					"folder", "DIR"))
		}
		at = up
	}
}

// Open opens an estate.
func Open(ctx context.Context, dir string, w Env) (*Estate, error) {
	e := &Estate{Dir: dir, Env: w.Filled()}
	var err error
	if e.Settings, err = ReadSettings(dir); err != nil {
		return nil, err
	}
	if e.Records, err = e.openRecords(ctx, w.Reading); err != nil {
		return nil, err
	}
	if !w.Inspecting {
		if err := e.inUse(ctx); err != nil {
			return nil, errors.Join(err, e.Records.Close())
		}
	}
	if e.Rehearsal, err = e.Records.IsRehearsal(ctx); err != nil {
		return nil, errors.Join(err, e.Records.Close())
	}
	work := e.Settings.work()
	if e.Rehearsal { // its keys are no secret
		e.Env.Pass, work = throwaway{}, pbes.Work{Memory: 8 << 20}
	}
	keys := filepath.Join(dir, "keys")
	e.Keys = guarded{&sshagent.Store{Keystore: &keyfiles.Files{Dir: keys, Disk: e.Env.Disk, Random: e.Env.Random,
		Work: work, Pass: e.Env.Pass, Shelf: e.Records, Shelve: e.Settings.Keys.Keep == KeepRecords}, Dir: keys,
		Disk: e.Env.Disk, Agent: e.Env.Agent}, e}
	return e, nil
}

// inUse refuses records that must not be used.
func (e *Estate) inUse(ctx context.Context) error {
	to, err := e.Records.MovedTo(ctx)
	if err == nil && to != "" {
		err = fault.New(fault.Refused, "%w", &store.MovedError{To: to}).On(fault.Estate.Named("%s", e.Dir))
	}
	if err != nil {
		return err
	}
	return e.Records.Newer(ctx)
}

// throwaway answers for the keys of a rehearsal, which are no secret.
type throwaway struct{}

// Passphrase implements keystore.Passphrases.
func (throwaway) Passphrase(context.Context, keystore.Question) ([]byte, bool, error) {
	return []byte(RehearsalPassphrase), true, nil
}

// ReadOnly says why no act can be done here, or nil.
func (e *Estate) ReadOnly() error {
	if err := e.Records.ReadOnly(); err != nil {
		return err
	}
	if !disk.Mine(e.Dir) {
		return fmt.Errorf("the estate %s belongs to another login%s: files that you make there would be closed to "+
			"that login. Nothing was changed: act as its owner", e.Dir, disk.OwnerOf(e.Dir))
	}
	return nil
}

// View calls fn with the estate as it is at one moment: whatever others write
// meanwhile, all that fn reads fits together. Plans are made in one.
func (e *Estate) View(ctx context.Context, fn func(snapshot *Estate) error) error {
	return e.Records.View(ctx, func(s store.Store) error {
		snapshot := *e
		snapshot.Records = s
		return fn(&snapshot)
	})
}

// Snapshot makes a plan from what the estate is at one moment: all that it reads fits
// together, whatever others write meanwhile.
func Snapshot[T any](ctx context.Context, e *Estate, plan func(*Estate) (T, error)) (out T, err error) {
	err = e.View(ctx, func(snapshot *Estate) (err error) {
		out, err = plan(snapshot)
		return err
	})
	return out, err
}

// Close closes the estate.
func (e *Estate) Close() error {
	if e.Keys != nil {
		e.Keys.Forget()
	}
	return e.Records.Close()
}

// Now is the time by the estate's clock, in whole seconds.
func (e *Estate) Now() time.Time {
	if !e.Env.PlannedAt.IsZero() {
		return e.Env.PlannedAt
	}
	return e.Env.Now().UTC().Truncate(time.Second)
}

// Options is what a new estate begins with.
type Options struct {
	Organisation string
	Country      string
	Rehearsal    bool
	SingleRoot   bool   // the root signs everything: templates for intermediates are for every authority
	Address      string // where lists will be published; "" for none yet
	Records      string // the address of a database on a server; "" for a file in the directory
}

// Create makes a new estate in dir, which must be missing or empty. Everything
// is made in a directory beside it first, so that a failure leaves nothing half
// made.
func Create(ctx context.Context, dir string, f Options, w Env) (*Estate, error) {
	w = w.Filled()
	if err := CheckEmpty(dir); err != nil {
		return nil, err
	}
	if f.Country != "" && !dn.IsCountry(f.Country) {
		return nil, fmt.Errorf("country %q: a country is two capital letters (ISO 3166), such as NO", f.Country)
	}
	if strings.TrimSpace(f.Organisation) == "" {
		f.Organisation = "Example Organisation"
	}
	if _, err := dn.New(dn.Pair{Type: "O", Value: f.Organisation}); err != nil {
		return nil, fmt.Errorf("organisation: %w", err)
	}
	if err := (Publication{Address: f.Address, Life: "7d", RootLife: "90d", Each: "1d"}).check(); err != nil {
		return nil, err
	}
	err := disk.NewFolder(RemoveIfEmpty(dir), func(into string) error { return Init(ctx, into, f, w) })
	if err != nil {
		return nil, fmt.Errorf("estate %s: %w", dir, err)
	}
	return Open(ctx, dir, w)
}

// CheckEmpty refuses a directory that something is in.
func CheckEmpty(dir string) error {
	if strings.TrimSpace(dir) == "" {
		return errors.New("estate: give the directory to make")
	}
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		if info, statErr := os.Stat(dir); statErr == nil && !info.IsDir() {
			return fmt.Errorf("estate %s: this is a file; an estate is a directory", dir)
		}
		return fmt.Errorf("estate %s: %w", dir, disk.Explain(err))
	case len(entries) > 0:
		if _, err := os.Stat(filepath.Join(dir, SettingsFile)); err == nil {
			return fault.New(fault.Refused, "estate %s: there is an estate already", dir).On(fault.Estate.Named("%s",
				dir)).
				Then(advice.To("see it", advice.EstateStatus, "folder", dir))
		}
		return fmt.Errorf("estate %s: the directory is not empty: choose another", dir)
	}
	return nil
}

// Init puts into a directory all that an estate begins with.
func Init(ctx context.Context, dir string, f Options, w Env) error {
	if err := disk.SetMode(dir, 0o700); err != nil {
		return disk.Explain(err)
	}
	for _, sub := range append(DataDirs(), "keys") {
		if err := disk.OwnDir(filepath.Join(dir, sub)); err != nil {
			return err
		}
	}
	for _, name := range template.StarterNames() {
		text := template.Starter(name)
		if f.SingleRoot {
			text = strings.Replace(text, `["`+template.AnyIntermediate+`"]`, `["`+template.Any+`"]`, 1)
		}
		if err := w.Disk.New(filepath.Join(dir, "templates", name+".toml"), []byte(text), 0o644); err != nil {
			return err
		}
	}
	for _, name := range receiver.StarterNames() {
		if err := w.Disk.New(filepath.Join(dir, "receivers", name+".toml"), []byte(receiver.Starter(name)),
			0o644); err != nil {
			return err
		}
	}
	settings, err := newSettings(f)
	if err != nil {
		return err
	}
	if err := w.Disk.New(filepath.Join(dir, SettingsFile), settings, 0o644); err != nil {
		return err
	}
	id := make([]byte, 16)
	if _, err := io.ReadFull(w.Random, id); err != nil {
		return err
	}
	place := PlaceOf(dir, Storage{Records: cmp.Or(f.Records, "records.db")})
	s, err := sqlstore.Create(ctx, place, hex.EncodeToString(id))
	if err != nil {
		return err
	}
	defer s.Close()
	created := event.On("estate", event.EstateCreated{Organisation: f.Organisation, ID: hex.EncodeToString(id)})
	_, err = ActOn(ctx, s, w, func(tx store.Tx) ([]event.Record, error) {
		if f.Rehearsal {
			created.Object = "rehearsal"
			if err := tx.MarkRehearsal(); err != nil {
				return nil, err
			}
		}
		return []event.Record{created}, nil
	})
	return err
}

// Template reads one template.
func (e *Estate) Template(name string) (template.Template, error) {
	data, err := e.dataFile("template", name)
	switch { // the program's own, unless the estate has one
	case err != nil && name == kit.SigningTemplate:
		data, err = kit.SigningTemplateText()
	case err != nil && (name == template.Serving || name == template.Registering):
		data, err = []byte(template.Starter(name)), nil
	}
	if err != nil {
		return template.Template{}, err
	}
	return parsedTemplate(name, data, func(base string) ([]byte, error) { return e.dataFile("template", base) })
}

// Receiver reads one receiver.
func (e *Estate) Receiver(name string) (receiver.Receiver, error) {
	data, err := e.dataFile("receiver", name)
	if err != nil {
		return receiver.Receiver{}, err
	}
	return receiver.Parse(name, data)
}

// dataFile reads a template's or a receiver's file by its name.
func (e *Estate) dataFile(kind, name string) ([]byte, error) {
	if name == "" || name != filepath.Base(name) || strings.HasPrefix(name, ".") {
		return nil, fmt.Errorf("%s %q: this is not a name of a %s", kind, name, kind)
	}
	path := filepath.Join(e.Dir, kind+"s", name+".toml")
	if info, statErr := os.Stat(path); statErr == nil && info.Mode().IsRegular() { // a pipe there would be waited for
		return disk.Read(path, template.Most)
	}
	return nil, fault.New(fault.NotFound, "no %s is called %q; %s", kind, name,
		strict.Offered(name, e.DataNames(kind)))
}

// TemplateNames lists the templates, by name.
func (e *Estate) TemplateNames() []string { return e.DataNames("template") }

// ReceiverNames lists the receivers, by name.
func (e *Estate) ReceiverNames() []string { return e.DataNames("receiver") }

// DataDirs are the directories of an estate in which people write files: templates,
// receivers, trust sets.
func DataDirs() []string {
	var out []string
	for _, kind := range DataKinds {
		out = append(out, kind+"s")
	}
	return out
}

// DataKinds are what people write in files; sets are trust sets, platforms what kits are
// packed for.
var DataKinds = []string{"template", "receiver", "set", "platform"}

// DataNames lists the data files of a kind, such as "template", by name.
func (e *Estate) DataNames(kind string) []string {
	files, err := filepath.Glob(filepath.Join(EscapeGlob(e.Dir), kind+"s", "*.toml"))
	if err != nil {
		return nil
	}
	var out []string
	for _, f := range files {
		out = append(out, strings.TrimSuffix(filepath.Base(f), ".toml"))
	}
	return out
}

// EscapeGlob makes a directory one that filepath.Glob takes as it stands.
func EscapeGlob(dir string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(dir)
}

// Templates reads all templates. Those that cannot be parsed are reported in the errors
// and do not hide the others.
func (e *Estate) Templates() (list []template.Template, faults []error) {
	for _, name := range e.TemplateNames() {
		t, err := e.Template(name)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		list = append(list, t)
	}
	return list, faults
}

// work is the work of encryption that the settings ask for.
func (s Settings) work() pbes.Work {
	return pbes.Work{Memory: s.Keys.EncryptionMemory << 20}
}

// RemoveIfEmpty takes an empty directory away, so that the restored one can have its name.
func RemoveIfEmpty(dir string) string {
	_ = os.Remove(dir) // fails, as it should, where there is anything
	return dir
}

// AsideDir is where key files go that nothing names.
const AsideDir = "aside"
