package estate

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"math/bits"
	"net/url"
	"path/filepath"
	"strings"
	"text/template"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/store/postgres"
	"ironseal/pki/dn"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
	"ironseal/pki/span"
	"ironseal/pki/strict"
)

// Settings is an estate's ironseal.toml.
type Settings struct {
	Organisation Organisation `toml:"organisation"`
	Defaults     Defaults     `toml:"defaults"`
	Keys         KeySettings  `toml:"keys"`
	Storage      Storage      `toml:"storage"`
	Publication  Publication  `toml:"publication"`
	Approvals    Approvals    `toml:"approvals"`
	Serve        Serve        `toml:"serve"`
}

// Publication says where what is published is fetched from, and how often.
type Publication struct {
	Address  string `toml:"address"`
	OCSP     string `toml:"ocsp"`
	Life     string `toml:"list-life"`
	RootLife string `toml:"root-list-life"`
	Each     string `toml:"list-each"`
	PartSize int    `toml:"part-size"`
	Delta    bool   `toml:"delta-lists"`
}

// Organisation is what subjects are built from.
type Organisation struct {
	Name     string `toml:"name"`
	Unit     string `toml:"unit"`
	Locality string `toml:"locality"`
	State    string `toml:"state"`
	Country  string `toml:"country"`
}

// Defaults are used where a command leaves a choice open.
type Defaults struct {
	AuthorityKey string `toml:"authority-key"`
	HostKey      string `toml:"host-key"`
	// estates of the first two forms hold its earlier key, and must still open
	BeginsBefore string `toml:"begins-before" was:"fa4a79cc46ea9ce7"`
	Expiring     string `toml:"expiring"`
}

// KeySettings say how keys are encrypted.
type KeySettings struct {
	EncryptionMemory int    `toml:"encryption-memory" was:"0e9d209066590ada"` // MiB of scrypt, 8 to 256
	Keep             string `toml:"keep"`                                     // where new keys go: KeepFolder, KeepRecords
}

// Where sealed keys are kept.
const (
	KeepFolder  = "folder"  // in the folder keys, of one machine
	KeepRecords = "records" // in the records, for all machines that share them
)

// Storage says where the records are.
type Storage struct {
	Records string `toml:"records"`
	Read    string `toml:"read"` // a follower of the database, for commands that only read; "" for none
}

const settingsText = `# Settings of this estate. Every key is listed here; unknown keys are errors.

# What subjects are built from where no subject is given.
[organisation]
name     = {{.Name}}
unit     = ""    # department, or empty
locality = ""    # town, or empty
state    = ""    # state or province, or empty
country  = {{.Country}}  # two capital letters (ISO 3166), or empty

[defaults]
# Key kinds: rsa-2048 rsa-3072 rsa-4096 ecdsa-p256 ecdsa-p384 ecdsa-p521 ed25519.
# Devices of unknown age must verify what an authority signs: rsa-4096 suits all.
authority-key = "rsa-4096"
host-key      = "ecdsa-p256"
# How far a certificate's beginning is set back, because devices' clocks are late.
begins-before = "10m"
# How long before its end a certificate is shown as expiring.
expiring      = "60d"

[keys]
# MiB of memory that each guess at a passphrase costs: a power of two, 8 to 256.
encryption-memory = 64
# Where new keys go, sealed: "folder" is the folder keys of this machine; "records" is the
# records, for every machine that shares them. "authority custody" moves a key.
keep = "folder"

[storage]
# A file of this directory, or the address of a PostgreSQL database that several machines
# share, such as postgresql://db.ternbay.example/harbour (without a password: that is in
# the password file, PGPASSFILE). "estate move" brings the records from one to the other.
records = {{.Records}}
# A server that follows that database, for commands that only read. They use it where it has
# all that this machine has seen. Empty: none.
read    = ""

# What certificates say about where their revocation list is, and their issuer: the
# address at which your web server serves the folder into which the lists are
# published. Empty: certificates name no address.
[publication]
address        = {{.Address}}     # such as http://pki.ternbay.example
ocsp           = ""     # where your OCSP responder answers, or empty
list-life      = "7d"   # how long a list is fresh
root-list-life = "90d"  # the same of a root's, whose key is locked away
list-each      = "1d"   # a list is signed again after this, even if nothing changed
# How many certificates a part of an authority's lists is about at most; clients then
# load a part only. 0: no parts, and each list is about all.
part-size      = 0
# Delta lists help only clients that know them; servers take them for whole lists.
delta-lists    = false

# How many operators must agree, the one who proposes among them. 0: one alone. What waits
# for others is a proposal. Templates have a number of their own (approvals).
[approvals]
authorities         = 0     # making, renewing and retiring authorities, and who holds their keys
operators           = 0     # who is an operator, and the files that machines share
trust-sets          = 0     # what relying parties trust
revoked-authorities = 0     # revoking an authority
proposals-end       = "14d" # after this, a proposal cannot be done any more
# How many people must have approved a transfer folder before it is opened here: operators of this
# estate, or people of the one that packed it, each a name and an SSH public key.
transfers           = 0
approvers           = []    # such as ["ana ssh-ed25519 AAAA..."]
` + ServeText

// quoted is a text as TOML writes it: a JSON string is a basic string there.
func quoted(text string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false) // addresses have & in them
	if err := e.Encode(text); err != nil {
		return `""`
	}
	return strings.TrimSpace(b.String())
}

func newSettings(f Options) ([]byte, error) {
	var b bytes.Buffer
	err := template.Must(template.New("settings").Parse(settingsText)).Execute(&b,
		map[string]string{"Name": quoted(f.Organisation), "Country": quoted(f.Country), "Address": quoted(f.Address),
			"Records": quoted(cmp.Or(f.Records, "records.db"))})
	return b.Bytes(), err
}

// ReadSettings reads an estate's settings. Reading is strict.
func ReadSettings(dir string) (Settings, error) {
	path := filepath.Join(dir, SettingsFile)
	s := Settings{
		Defaults: Defaults{AuthorityKey: string(key.RSA4096), HostKey: string(key.P256), BeginsBefore: "10m",
			Expiring: "60d"},
		Keys: KeySettings{EncryptionMemory: 64, Keep: KeepFolder}, Storage: Storage{Records: "records.db"},
		Publication: Publication{Life: "7d", RootLife: "90d", Each: "1d"}, Serve: serveDefaults(),
		Approvals: Approvals{End: "14d"},
	}
	data, err := disk.Read(path, 1<<20)
	if err != nil {
		return s, fmt.Errorf("settings: %w", err)
	}
	if err := strict.Read(data, &s); err != nil {
		return s, fmt.Errorf("%s:%w", path, err)
	}
	if err := s.check(); err != nil {
		return s, fmt.Errorf("%s: %w", path, err)
	}
	return s, nil
}

func (s Settings) check() error {
	for _, k := range []string{s.Defaults.AuthorityKey, s.Defaults.HostKey} {
		if _, err := key.ParseKind(k); err != nil {
			return fmt.Errorf("defaults: %w", err)
		}
	}
	if d, err := time.ParseDuration(s.Defaults.BeginsBefore); err != nil || d < 0 || d > 48*time.Hour {
		return fmt.Errorf("defaults.begins-before = %q: write for example \"10m\" or \"2h\", at most 48h",
			s.Defaults.BeginsBefore)
	}
	if _, err := span.Parse(s.Defaults.Expiring); err != nil {
		return fmt.Errorf("defaults.expiring: %w", err)
	}
	if m := s.Keys.EncryptionMemory; m < 8 || m<<20 > pbes.MostMemory || bits.OnesCount(uint(m)) != 1 {
		return fmt.Errorf("keys.encryption-memory = %d: a power of two from 8 to 256", m)
	}
	if s.Keys.Keep != KeepFolder && s.Keys.Keep != KeepRecords {
		return fmt.Errorf("keys.keep = %q: %q or %q", s.Keys.Keep, KeepFolder, KeepRecords)
	}
	if s.Organisation.Country != "" && !dn.IsCountry(s.Organisation.Country) {
		return fmt.Errorf("organisation.country = %q: two capital letters, such as NO", s.Organisation.Country)
	}
	if s.Storage.OnServer() {
		if err := postgres.CheckURL(s.Storage.Records); err != nil {
			return fmt.Errorf("storage.records: %w", err)
		}
		if err := postgres.CheckURL(cmp.Or(s.Storage.Read, s.Storage.Records)); err != nil {
			return fmt.Errorf("storage.read: %w", err)
		}
	} else if s.Storage.Read != "" {
		return fmt.Errorf("storage.read = %q: records in a file have no follower", s.Storage.Read)
	} else if s.Storage.Records != filepath.Base(s.Storage.Records) || s.Storage.Records == "." {
		return fmt.Errorf("storage.records = %q: a file name, without directories, or the address of a database",
			s.Storage.Records)
	}
	if err := s.Serve.Check(); err != nil {
		return err
	}
	if err := s.Approvals.check(); err != nil {
		return err
	}
	return s.Publication.check()
}

func (p Publication) check() error {
	for _, x := range []struct{ key, value string }{{"list-life", p.Life}, {"root-list-life", p.RootLife},
		{"list-each", p.Each}} {
		if _, err := span.Parse(x.value); err != nil {
			return fmt.Errorf("publication.%s: %w", x.key, err)
		}
	}
	for _, x := range []struct{ key, value string }{{"address", p.Address}, {"ocsp", p.OCSP}} {
		if u, err := url.Parse(x.value); x.value != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" ||
			u.Host == "" || u.RawQuery != "" || u.Fragment != "" || strings.ContainsAny(x.value, " \"<>{}")) {
			return fmt.Errorf("publication.%s = %q: write for example \"http://pki.ternbay.example\"", x.key, x.value)
		}
	}
	if p.PartSize != 0 && (p.PartSize < 100 || p.PartSize > 1_000_000) {
		return fmt.Errorf("publication.part-size = %d: from 100 to 1000000 certificates, or 0 for no parts", p.PartSize)
	}
	return nil
}

// BeginsBefore is how long before now certificates begin, for clocks that are behind.
func (s Settings) BeginsBefore() time.Duration {
	d, err := time.ParseDuration(s.Defaults.BeginsBefore)
	if err != nil {
		return 0 // check has refused such settings
	}
	return d
}

// ExpiringFrom is the moment before now from which an end counts as near.
func (s Settings) ExpiringFrom(now time.Time) time.Time {
	p, err := span.Parse(s.Defaults.Expiring)
	if err != nil {
		return now // check has refused such settings
	}
	return p.After(now)
}

// Subject builds a subject from the organisation and a common name.
func (o Organisation) Subject(commonName string) (dn.Name, error) {
	var pairs []dn.Pair
	for _, p := range []dn.Pair{{Type: "C", Value: o.Country}, {Type: "ST", Value: o.State},
		{Type: "L", Value: o.Locality}, {Type: "O", Value: o.Name}, {Type: "OU", Value: o.Unit},
		{Type: "CN", Value: commonName}} {
		if p.Value != "" {
			pairs = append(pairs, p)
		}
	}
	return dn.New(pairs...)
}
