// Package transfer packs what goes to an estate that no network reaches, opens
// the answers, and answers what others bring.
//
// What travels is a directory with a manifest of hashes and a short code that
// two people can compare by telephone. A directory is read once: what was
// verified is what is imported, whatever happens to the files meanwhile.
package transfer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/ca/external"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// A transfer folder goes between two estates that share no network. It holds
// requests on the way there and certificates on the way back, a manifest with the
// hash of every file, a page for the person at the other end, and the manifest's
// own check code, which two people can compare aloud.
const (
	ManifestFile = "manifest.json"
	TransferCode = "CHECK-CODE.txt"
	PageFile     = "READ-ME.txt"
)

// SenderPrefix begins the sender of requests that a transfer brought.
const SenderPrefix = "transfer from "

// IsSender reports whether a request came by a transfer. Earlier versions called a transfer a courier.
func IsSender(sender string) bool {
	return strings.HasPrefix(sender, SenderPrefix) || strings.HasPrefix(sender, "courier from ")
}

// Folder is a transfer folder's manifest.
type Folder struct {
	Form     int          `json:"form"`
	ID       string       `json:"id"`
	Kind     string       `json:"kind"` // "requests" or "answers"
	From     string       `json:"from"` // the organisation
	Made     time.Time    `json:"made"`
	Head     string       `json:"journal_head"`
	Template string       `json:"template,omitempty"` // by which the sender asks them to be signed
	Answers  string       `json:"answers,omitempty"`  // the transfer that is answered
	Files    []FolderFile `json:"files"`
}

// FolderFile is one file of a transfer folder.
type FolderFile struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Code   string `json:"check_code,omitempty"` // of the request or certificate in it
	Title  string `json:"title,omitempty"`

	Beside []string `json:"names_beside,omitempty"` // names that the sender typed beside the request, with their kinds
}

const (
	RequestsFolder = "requests"
	AnswersFolder  = "answers"
	mostCarried    = 20_000
	mostFrom       = 200 // bytes of an organisation's name

	mostCarriedBytes = 256 << 20 // of all files together
)

// Beside are the names that the sender of a request typed beside it.
func (m Folder) Beside(r *request.Request) []string {
	for _, f := range m.Files {
		if f.Code != "" && f.Code == label.CheckCode(r.Raw) {
			return f.Beside
		}
	}
	return nil
}

// PackAsk says what a transfer is to carry.
type PackAsk struct {
	Dir      string
	Requests []string // "R7"
	All      bool     // every request that waits
	Handles  []string // authorities whose request is sent
	Lists    bool     // the revocation lists of this estate, in place of requests
	Template string
}

// Pack writes a transfer folder with requests for another estate, and records
// them as sent.
func Pack(ctx context.Context, e *estate.Estate, ask PackAsk) (Folder, string, error) {
	var out Folder
	var files []delivery.File
	var numbers []int64
	if ask.Lists {
		if len(ask.Requests)+len(ask.Handles) > 0 || ask.All {
			return out, "", errors.New("transfer: lists go by themselves, without requests")
		}
		return packLists(ctx, e, ask.Dir)
	}
	add := func(name string, r *request.Request, beside []string) {
		files = append(files, delivery.File{Name: name, Data: bundle.PEM(bundle.Request, r.Raw)})
		out.Files = append(out.Files, FolderFile{Name: name, Code: label.CheckCode(r.Raw), Title: r.Title(),
			Beside: beside})
	}
	names, err := ask.names(ctx, e)
	if err != nil {
		return out, "", err
	}
	for _, name := range names {
		rec, r, err := e.Request(ctx, name)
		if err != nil {
			return out, "", err
		}
		if rec.State != lifecycle.Waiting && rec.State != lifecycle.Sent {
			return out, "", fmt.Errorf("R%d is %s: only what waits is carried", rec.Number, rec.State)
		}
		numbers = append(numbers, rec.Number)
		beside, err := besideOf(ctx, e, rec)
		if err != nil {
			return out, "", err
		}
		add(label.FileName(fmt.Sprintf("R%d.%s", rec.Number, label.FileName(rec.Title)))+".request.pem", r, beside)
	}
	for _, handle := range ask.Handles {
		r, err := sentFor(ctx, e, handle)
		if err != nil {
			return out, "", err
		}
		add(handle+".authority.request.pem", r, nil)
	}
	if ask.Template != "" && !label.IsFileName(ask.Template) {
		return out, "", fmt.Errorf("transfer: %q is not a name of a template", ask.Template)
	}
	if len(files) == 0 {
		return out, "", fault.New(fault.BadInput,
			"transfer: there is nothing to carry: name requests or authorities").Then(
			advice.To("or carry all", advice.EveryOne))
	}
	out.Kind, out.Template = RequestsFolder, ask.Template
	code, err := writeErrand(ctx, e, ask.Dir, &out, files, numbers, func(tx store.Tx) error {
		for _, n := range numbers {
			if err := tx.SetState(n, lifecycle.Sent, SentBy(out.ID)); err != nil {
				return err
			}
		}
		return nil
	})
	return out, code, err
}

// sentFor is the request that was made for an authority.
func sentFor(ctx context.Context, e *estate.Estate, handle string) (*request.Request, error) {
	app, err := external.Sent(ctx, e, handle)
	if err != nil {
		return nil, err
	}
	return request.Read(app.DER)
}

// besideOf are the names that the sender of a request typed beside it.
func besideOf(ctx context.Context, e *estate.Estate, rec store.Request) ([]string, error) {
	told, err := signing.HandedIn(ctx, e.Records, rec)
	if err != nil || told == nil {
		return nil, err
	}
	return told.Names, nil
}

// names are the requests that are carried.
func (ask PackAsk) names(ctx context.Context, e *estate.Estate) ([]string, error) {
	if !ask.All {
		return ask.Requests, nil
	}
	waiting, err := e.Records.Requests(ctx, lifecycle.Waiting)
	names := ask.Requests
	for _, r := range waiting {
		names = append(names, fmt.Sprintf("R%d", r.Number))
	}
	return names, err
}

// packLists writes a transfer folder with the revocation lists of this estate.
func packLists(ctx context.Context, e *estate.Estate, dir string) (Folder, string, error) {
	out := Folder{Kind: AnswersFolder}
	files, err := addLists(ctx, e, &out, nil)
	if err == nil && len(files) == 0 {
		err = fault.New(fault.NotFound, "transfer: no list was signed yet").Then(advice.To("sign them",
			advice.PublishLists))
	}
	if err != nil {
		return out, "", err
	}
	code, err := writeErrand(ctx, e, dir, &out, files, nil, func(store.Tx) error { return nil })
	return out, code, err
}

// addLists adds the lists that are kept here, those for later too. They carry no check code:
// whoever takes them in knows whose keys sign them.
func addLists(ctx context.Context, e *estate.Estate, m *Folder, files []delivery.File) ([]delivery.File, error) {
	lists, err := inventory.Kept(ctx, e)
	if err != nil {
		return nil, err
	}
	for _, l := range lists {
		files = append(files, delivery.File{Name: l.Name, Data: l.DER})
		m.Files = append(m.Files, FolderFile{Name: l.Name, Title: l.Title})
	}
	return files, nil
}

// writeErrand fills in the manifest, writes the folder and records it. The
// record comes first: nothing is released before it.
func writeErrand(ctx context.Context, e *estate.Estate, dir string, m *Folder, files []delivery.File, sent []int64,
	record func(store.Tx) error) (code string, err error) {
	id := make([]byte, 16)
	if _, err := io.ReadFull(e.Env.Random, id); err != nil {
		return "", err
	}
	head, _, err := e.Records.Newest(ctx)
	if err != nil {
		return "", err
	}
	from := e.Settings.Organisation.Name
	m.Form, m.ID, m.From, m.Made, m.Head = 1, hex.EncodeToString(id), from[:min(len(from), mostFrom)], e.Now(),
		head.String()
	files = append(files, delivery.File{Name: PageFile, Data: []byte(pageFor(*m, e.Rehearsal, e.Env.Spell))})
	m.Files = append(m.Files, FolderFile{Name: PageFile})
	for i, f := range files {
		sum := sha256.Sum256(f.Data)
		m.Files[i].SHA256 = hex.EncodeToString(sum[:])
	}
	data, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return "", err
	}
	data = append(data, '\n')
	code = label.Code(sha256.Sum256(data))
	files = append(files, delivery.File{Name: ManifestFile, Data: data}, delivery.File{Name: TransferCode,
		Data: []byte(code + "\n")})
	mine, err := ownApproval(ctx, e, m.ID, data)
	if err != nil {
		return "", err
	}
	files = append(files, mine...)
	done, err := e.UnderWay(filepath.Dir(filepath.Clean(dir)))
	if err != nil {
		return "", err
	}
	defer done()
	if err := disk.NewFolder(dir, func(into string) error {
		for _, f := range files {
			if err := e.Env.Disk.New(filepath.Join(into, f.Name), f.Data, 0o644); err != nil {
				return err
			}
		}
		_, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
			return []event.Record{event.On("transfer", event.TransferPacked{ID: m.ID, Kind: m.Kind, Files: len(m.Files),
				CheckCode: code, Requests: sent})}, record(tx)
		})
		return err
	}); err != nil {
		return "", fmt.Errorf("transfer: %w", err)
	}
	return code, nil
}

func pageFor(m Folder, rehearsal bool, spell func(advice.Step) string) string {
	var b strings.Builder
	if rehearsal {
		b.WriteString("THIS IS A REHEARSAL. Nothing in this folder is real.\n\n")
	}
	if m.Kind == RequestsFolder {
		fmt.Fprintf(&b, "Requests from %s, packed on %s\n\n", m.From, m.Made.Format("2006-01-02"))
		by := "TEMPLATE"
		if m.Template != "" {
			by = m.Template
		}
		fmt.Fprintf(&b, `At the estate that signs:

  1. Copy this folder to the machine. Do not change anything in it.
  2. Import it. Every file is checked first:
         %s
     It shows a check code. Let the sender read theirs out; both must be the same.
  3. Look at each request, and sign it:
         %s
  4. Pack the certificates:
         %s
  5. Carry the new folder back.

`, spell(advice.To("", advice.OpenTransfer)), spell(advice.To("", advice.Sign, "request", "R1", "template", by)),
			spell(advice.To("", advice.AnswerTransfer, "out", "ANSWERS")))
	} else {
		fmt.Fprintf(&b, "Certificates and revocation lists from %s, packed on %s\n\n", m.From,
			m.Made.Format("2006-01-02"))
		fmt.Fprintf(&b, `At the estate that asked:

  1. Copy this folder to the machine. Do not change anything in it.
  2. Import it. Every file is checked first:
         %s
     A root that is not known there yet is trusted only when it is given: compare
     its check code with its keeper, then add %s.

`, spell(advice.To("", advice.OpenTransfer)), spell(advice.To("", advice.GiveAnchor)))
	}
	b.WriteString("In this folder\n\n")
	for _, f := range m.Files {
		if f.Name != PageFile {
			fmt.Fprintf(&b, "  %-19s  %s\n", f.Code, f.Name)
			if len(f.Beside) > 0 { // the request does not have them, so whoever signs has to add them
				fmt.Fprintf(&b, "  %-19s  the sender asks for these names too: %s\n", "", strings.Join(f.Beside, " "))
			}
		}
	}
	return b.String()
}

// Carried is a transfer folder that was read and verified. What it holds is what
// was verified: the folder is not looked at again.
type Carried struct {
	Errand  Folder
	Code    string // of its manifest
	Dir     string
	Content map[string][]byte

	Approvals []Approval // each verified
	manifest  []byte
}

// ReadFolder reads and verifies a transfer folder: every file, and that there is
// no other. Only plain files are read.
func ReadFolder(dir string) (Carried, error) {
	c := Carried{Dir: dir, Content: map[string][]byte{}}
	fail := func(format string, args ...any) (Carried, error) {
		return c, fmt.Errorf("transfer %s: "+format, append([]any{dir}, args...)...)
	}
	data, err := disk.ReadRegular(filepath.Join(dir, ManifestFile), 16<<20)
	if err != nil {
		return fail("this is no transfer folder: %w", err)
	}
	c.Code = label.Code(sha256.Sum256(data))
	told, err := disk.ReadRegular(filepath.Join(dir, TransferCode), 1024)
	if err != nil {
		return fail("%w", err)
	}
	if label.ReadCode(string(bytes.TrimSpace(told))) != c.Code {
		return fail("the manifest was changed: its check code is %s, and the folder says %s: have it packed again",
			c.Code, strings.TrimSpace(string(told)))
	}
	if c.Errand, err = ReadManifestOf(data); err != nil {
		return fail("%w", err)
	}
	c.manifest = data
	if c.Approvals, err = approvalsIn(dir, c.Errand.ID, data); err != nil {
		return fail("%w", err)
	}
	var total int64
	for _, f := range c.Errand.Files {
		if !label.IsFileName(f.Name) || c.Content[f.Name] != nil {
			return fail("%q is not a name of a carried file", f.Name)
		}
		data, err := disk.ReadRegular(filepath.Join(dir, f.Name), mostCarriedBytes-total)
		if err != nil {
			return fail("%s is missing, or cannot be parsed: %w", f.Name, err)
		}
		if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != f.SHA256 {
			return fail("%s was changed on the way: its hash is not the manifest's: have it packed again", f.Name)
		}
		c.Content[f.Name] = append([]byte{}, data...)
		total += int64(len(data))
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return fail("%w", disk.Explain(err))
	}
	for _, x := range entries {
		if c.Content[x.Name()] == nil && !slices.Contains([]string{ManifestFile, TransferCode, ApprovalsFile}, x.
			Name()) {
			return fail("%s is not in the manifest: it was added on the way: take it out, and ask where it came from",
				x.Name())
		}
	}
	return c, nil
}

// ReadManifestOf reads the manifest of a transfer folder. It may come from anybody.
func ReadManifestOf(data []byte) (Folder, error) {
	var m Folder
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&m); err != nil {
		return m, fmt.Errorf("the manifest cannot be parsed: %w", err)
	}
	if m.Form != 1 || m.Kind != RequestsFolder && m.Kind != AnswersFolder || !isHex(m.ID, 16, 64) ||
		m.Answers != "" && !isHex(m.Answers, 16, 64) || len(m.From) > mostFrom || len(m.Files) > mostCarried {
		return m, errors.New("the manifest was made by another version of ironseal, or is damaged")
	}
	return m, nil
}

func isHex(s string, least, most int) bool {
	return len(s) >= least && len(s) <= most && strings.Trim(s, "0123456789abcdef") == ""
}

// SentBy is why a request is sent, as the records say it: by which transfer.
func SentBy(id string) string { return "by transfer " + id[:min(8, len(id))] }
