package publishing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/hierarchy"
	"ironseal/pki/label"
	"ironseal/pki/pkcs"
	"ironseal/pki/revocation"
	"ironseal/pki/runes"
)

// ContentsFile tells, in a folder that is served, what is in it and who wrote it. A folder
// without it is never replaced.
const ContentsFile = "contents.txt"

// Released is what a folder holds now.
type Released struct {
	Dir     string
	Files   []string
	Lists   []event.List
	Stale   []string // lists that are in it and stale, by title
	Absent  []string // generations of which no list is there
	Missing []string // lists that certificates name, and that are not there: by address
	Same    bool     // it held all of this before
}

// Release writes into a folder all that clients fetch: the lists that are to be served now,
// and the authorities' certificates. The folder is made beside its place and takes it in one
// step; it is to hold nothing else. Where another program publishes meanwhile, it is done
// again, so that the older never stays in place of the newer.
func Release(ctx context.Context, e *estate.Estate, dir string) (Released, error) {
	for again := range mostAgain {
		before, err := inventory.Known(ctx, e.Records)
		if err != nil {
			return Released{}, err
		}
		out, err := release(ctx, e, dir)
		after, knownErr := inventory.Known(ctx, e.Records)
		if knownErr != nil {
			return out, errors.Join(err, knownErr)
		}
		if err == nil && before.Last() != after.Last() && again < mostAgain-1 {
			continue
		}
		if err == nil {
			err = place(ctx, e, dir, after, out.Lists)
		}
		return out, err
	}
	return Released{}, nil
}

// Served records that a server hands out lists, where its last entry says otherwise.
func Served(ctx context.Context, e *estate.Estate, where string, lists []event.List) error {
	have, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return err
	}
	return recordPlaced(ctx, e, where, have, lists)
}

// place records that lists were written into a folder, unless its last entry says the same.
// An incident is over only once the list that tells of it lies where clients find it.
func place(ctx context.Context, e *estate.Estate, dir string, have inventory.Lists, lists []event.List) error {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	return recordPlaced(ctx, e, dir, have, lists)
}

func recordPlaced(ctx context.Context, e *estate.Estate, dir string, have inventory.Lists, lists []event.List) error {
	if have.Placed(dir, lists) {
		return nil
	}
	told := []event.PlacedList{}
	for _, i := range lists {
		told = append(told, event.PlacedList{List: i.List, Part: i.Part, Delta: i.Delta, Number: i.Number})
	}
	_, err := e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		return []event.Record{event.On(dir, event.ListsPlaced{Lists: told})}, nil
	})
	return err
}

// mostAgain is how often a folder is written again because someone published meanwhile.
const mostAgain = 5

// Unrecorded says that a folder which is to be replaced holds a list of ours that no one wrote down
// here. It may tell of revocations that this estate does not know.
type Unrecorded struct {
	File string
	By   string // the generation whose key signed it
	Size int    // how many certificates are on it
}

func (u *Unrecorded) Error() string {
	return fmt.Sprintf("%s: it was signed with the key of %s and is not on record here: this estate is an older "+
		"copy, or "+
		"someone else has the key. What it revokes would be forgotten", u.File, u.By)
}

// Unwrap gives the refusal, and what to do first.
func (u *Unrecorded) Unwrap() error {
	return fault.New(fault.Refused, "the list is not on record").On(fault.File.Named("%s", u.File)).
		Then(advice.To("import the lists of this folder first", advice.ImportLists, "file", filepath.Dir(u.File)))
}

// Untouched refuses a folder that holds a list which a key of ours signed and which is not on record: a
// restored backup would replace it by one that knows less.
func Untouched(ctx context.Context, e *estate.Estate, dir string) (err error) {
	for range 100 { // where there is no swap of folders, one that is replaced is missing for a moment: it is read again
		if err = untouched(ctx, e, dir); !errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	return err
}

func untouched(ctx context.Context, e *estate.Estate, dir string) error {
	files, err := filepath.Glob(filepath.Join(estate.EscapeGlob(dir), "*.crl"))
	if err != nil || len(files) == 0 {
		return err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return err
	}
	have, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return err
	}
	for _, f := range files {
		data, err := disk.ReadRegular(f, revocation.MostSize)
		if err != nil {
			return err
		}
		l, err := revocation.Skim(data)
		if err != nil || l.Base != nil {
			continue // what is no list is refused or replaced by other rules; a delta's whole list lies beside it
		}
		if _, known := have.Find(l); known {
			continue
		}
		if by := inventory.SignedBy(h, l); by != nil {
			whole, err := revocation.ReadList(data)
			if err != nil {
				return fmt.Errorf("%s: %w", f, err)
			}
			return &Unrecorded{f, by.Label(), whole.Count}
		}
	}
	return nil
}

func release(ctx context.Context, e *estate.Estate, dir string) (Released, error) {
	out := Released{Dir: dir}
	if err := Untouched(ctx, e, dir); err != nil {
		return out, err
	}
	files, err := out.gather(ctx, e)
	if err != nil {
		return out, err
	}
	out.Files = slices.Sorted(maps.Keys(files))
	files[ContentsFile] = octets(out.contents(e, files))
	if out.Same, err = holds(dir, files); err != nil || out.Same {
		return out, err
	}
	known, err := ours(dir)
	if err != nil {
		return out, err
	}
	for name := range files {
		known = append(known, name)
	}
	done, err := e.UnderWay(filepath.Dir(filepath.Clean(dir)))
	if err != nil {
		return out, err
	}
	defer done()
	err = disk.ReplaceFolder(dir, known, func(into string) error {
		if err := disk.SetMode(into, 0o755); err != nil {
			return fmt.Errorf("%s: %w", into, disk.Explain(err))
		}
		if err := write(e, into, files); err != nil {
			return err
		}
		return e.Env.Step(estate.StepHandingOut)
	})
	return out, err
}

// write writes all files into a folder. What is the same is written once: the other is a second name of it, where the
// file system has such names. The estate's own files get none here. A file that is served has the rights that its
// folder gives, and whoever may change it changes nothing in the estate.
func write(e *estate.Estate, into string, files map[string]content) error {
	var written []string
	for _, name := range slices.Sorted(maps.Keys(files)) {
		to, c := filepath.Join(into, name), files[name]
		i := slices.IndexFunc(written, func(o string) bool { return files[o].same(c) })
		if i >= 0 && e.Env.Disk.Link(filepath.Join(into, written[i]), to) == nil {
			continue
		}
		if err := e.Env.Disk.NewFrom(to, 0o644, c.writeTo); err != nil {
			return err
		}
		written = append(written, name)
	}
	return nil
}

// holds reports whether a folder holds just these files.
func holds(dir string, files map[string]content) (bool, error) {
	list, err := disk.Entries(dir)
	if err != nil || len(list) != len(files) {
		if errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return false, err
	}
	for _, f := range list {
		c, wanted := files[f.Name()]
		if !wanted {
			return false, nil
		}
		if same, err := disk.HoldsWhat(filepath.Join(dir, f.Name()), c.size(), c.writeTo); err != nil || !same {
			return false, err
		}
	}
	return true, nil
}

// ours are the files of a folder that this program wrote: those that its contents tell.
func ours(dir string) ([]string, error) {
	data, err := disk.ReadRegular(filepath.Join(dir, ContentsFile), 16<<20)
	if err != nil {
		return nil, nil // then the folder must be empty, or hold nothing but what is to be written
	}
	var out []string
	for line := range strings.Lines(string(data)) {
		if name, found := strings.CutPrefix(line, "- "); found {
			name, _, _ = strings.Cut(strings.TrimSpace(name), " ")
			if name == filepath.Base(name) {
				out = append(out, name)
			}
		}
	}
	return append(out, ContentsFile), nil
}

// contents says in words what a folder holds. It tells no time of its own: the same lists
// give the same text.
func (r *Released) contents(e *estate.Estate, files map[string]content) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "Revocation lists and authorities of %s.\n", runes.Escape(e.Settings.Organisation.Name))
	b.WriteString("Serve this folder over plain HTTP, as it is. It is replaced as a whole; keep nothing else in " +
		"it.\n\n")
	for _, i := range r.Lists {
		fmt.Fprintf(&b, "list %d of %s, of %s, next by %s, %d revoked\n", i.Number, i.Title(),
			i.This.UTC().Format(time.RFC3339), i.Next.UTC().Format(time.RFC3339), i.Entries)
	}
	b.WriteString("\nFiles (.crl and .cer are DER, .pem is text, .p7c PKCS#7; HANDLE.lists.pem has the lists of " +
		"every generation of\nHANDLE that stands, and of every authority above: servers that check clients read " +
		"it):\n\n")
	for _, name := range slices.Sorted(maps.Keys(files)) {
		fmt.Fprintf(&b, "- %s %d octets\n", name, files[name].size())
	}
	return b.Bytes()
}

// Files are what a folder would hold now, by name, without its contents file. The acts that publish write them;
// a server hands them out.
func Files(ctx context.Context, e *estate.Estate) (map[string][]byte, Released, error) {
	var out Released
	files, err := out.gather(ctx, e)
	return asOctets(files), out, err
}

// gather puts together what a folder is to hold.
func (r *Released) gather(ctx context.Context, e *estate.Estate) (map[string]content, error) {
	files := map[string]content{}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	have, err := inventory.Known(ctx, e.Records)
	if err != nil {
		return nil, err
	}
	now := e.Now()
	whole := map[string]*revocation.List{}
	for _, g := range inventory.Signers(h, now) {
		found := false
		for _, s := range have.Scopes() {
			i, ok := have.At(s, now)
			if s.List != g.Name() || !ok {
				continue
			}
			l, err := inventory.Read(e, i)
			if errors.Is(err, fs.ErrNotExist) &&
				g.Authority.External() { // after a restored backup: it is imported again
				continue
			}
			if err != nil {
				return nil, fault.New(fault.NotFound, "the list %s is not there: %w", i.Title(),
					err).On(fault.List.Named("%s", i.Title())).
					Then(advice.To("sign it again", advice.PublishLists, "authority", g.Authority.Handle, "folder",
						"DIR"))
			}
			files[i.Title()], files[i.Title()+".pem"] = octets(l.Raw), text(l)
			if r.Lists = append(r.Lists, i); now.After(i.Next) {
				r.Stale = append(r.Stale, i.Title())
			}
			if i.Part == 0 && !i.Delta {
				found, whole[g.Name()] = true, l
			}
		}
		if !found {
			r.Absent = append(r.Absent, g.Label())
		}
	}
	for _, a := range h {
		for _, g := range a.Generations {
			if now.After(g.Certificate.NotAfter) {
				continue
			}
			if err := issuerFiles(files, g, whole); err != nil {
				return nil, err
			}
		}
	}
	for _, a := range h {
		if lists := listsOf(a, whole, now); lists != nil {
			files[a.Handle+".lists.pem"] = lists
		}
	}
	return files, r.named(ctx, e, h, files)
}

// listsOf are the lists of every generation in force of an authority and of every authority above them,
// in one file: servers that check clients read it, and continue accepting those whose certificates are of
// the generation before or after. Nil where one of them is missing.
func listsOf(a *hierarchy.Authority, whole map[string]*revocation.List, now time.Time) (out content) {
	seen := map[string]bool{}
	for _, g := range slices.Backward(a.Generations) {
		if now.After(g.Certificate.NotAfter) {
			continue
		}
		for _, up := range g.Line() {
			name := up.ListName()
			if seen[name] {
				continue
			}
			seen[name] = true
			if whole[name] == nil {
				return nil
			}
			out = append(out, text(whole[name])...)
		}
	}
	return out
}

// issuerFiles adds the certificate of a generation, the certificates from it upward, and the
// lists of its path where all of them are there.
func issuerFiles(files map[string]content, g *hierarchy.Generation, whole map[string]*revocation.List) error {
	files[revocation.IssuerFile(g.Name())] = octets(g.Certificate.Raw)
	var chain [][]byte
	var lists []*revocation.List
	complete := true
	for _, up := range g.Line() {
		chain = append(chain, up.Certificate.Raw)
		l, ok := whole[up.ListName()]
		complete = complete && ok
		if ok && !slices.Contains(lists, l) { // one list an issuer, however often it stands in the path
			lists = append(lists, l)
		}
	}
	p7, err := pkcs.WriteSignedData(chain)
	if err != nil {
		return err
	}
	files[g.Name()+".p7c"] = octets(p7)
	if complete {
		files[g.Name()+".lists.pem"] = text(lists...)
	}
	return nil
}

// named adds lists and certificates under the names that certificates on record name, and tells which
// lists are missing there. The handle here may not be the handle where a certificate was signed, and
// the address may have moved since: clients look where their certificate says.
func (r *Released) named(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy,
	files map[string]content) error {
	places, err := e.Records.Addresses(ctx)
	if err != nil {
		return err
	}
	owner := map[string]string{}
	for _, p := range places {
		g := h.Generation(p.Generation)
		if g == nil || e.Now().After(g.Certificate.NotAfter) {
			continue
		}
		file := revocation.IssuerFile(g.Name())
		if p.Kind == store.ListAddress {
			file = revocation.ListFile(g.ListName(), p.Part)
		}
		data, there := files[file]
		if !there {
			if p.Kind == store.ListAddress && oursToServe(e, g, p.Address) {
				r.Missing = append(r.Missing, p.Address)
			}
			continue
		}
		u, err := url.Parse(p.Address)
		if err != nil {
			continue
		}
		name := path.Base(u.Path)
		if name == file || !label.IsFileName(name) {
			continue
		}
		if was, taken := owner[name]; taken && was != file || !taken && files[name] != nil {
			return fmt.Errorf("%s and %s would both be %s, by the addresses in certificates: serve one of them from "+
				"another folder, and give each authority an address of its own", orFile(was, name), file, name)
		}
		owner[name], files[name] = file, data
	}
	r.Missing = slices.Compact(slices.Sorted(slices.Values(r.Missing)))
	return nil
}

func orFile(was, name string) string {
	if was == "" {
		return "a file of another authority"
	}
	return was
}

// oursToServe reports whether a list is to be found in our folder: of an authority whose key is here, or
// of one elsewhere whose certificates name an address of ours.
func oursToServe(e *estate.Estate, g *hierarchy.Generation, address string) bool {
	base := e.Settings.Publication.Address
	return !g.Authority.External() || base != "" && strings.HasPrefix(address, strings.TrimSuffix(base, "/")+"/")
}
