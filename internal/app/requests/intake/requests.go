// Package intake imports signing requests, in whatever shape they come, drafts
// them for those who cannot, and puts aside what is not to be signed.
package intake

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/journal"
	"ironseal/pki/request"
)

// Input is bytes that came from somewhere: a file or a paste.
type Input struct {
	Name string // of the file; "standard input" for a paste
	Data []byte
}

// ReadInput reads a file, every file of a directory, or standard input ("-").
func ReadInput(arg string, stdin func() ([]byte, error)) ([]Input, error) {
	if arg == "-" {
		data, err := stdin()
		return []Input{{"standard input", data}}, err
	}
	info, err := os.Stat(arg)
	if err != nil || !info.IsDir() {
		data, err := disk.Read(arg, bundle.MostBytes)
		return []Input{{arg, data}}, err
	}
	entries, err := os.ReadDir(arg)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", arg, disk.Explain(err))
	}
	var out []Input
	for _, en := range entries {
		if !en.Type().IsRegular() || strings.HasPrefix(en.Name(), ".") {
			continue
		}
		data, err := disk.Read(filepath.Join(arg, en.Name()), bundle.MostBytes)
		if err != nil {
			return nil, err
		}
		out = append(out, Input{filepath.Join(arg, en.Name()), data})
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: there are no files in this directory", arg)
	}
	return out, nil
}

// Received is one request imported.
type Received struct {
	Record  store.Request
	Request *request.Request
	Known   bool     // the same bytes were on record already
	Source  string   // where it came from
	Remarks []string // what was untidy and understood
}

// Receive imports every request found in the inputs. A request that does not
// read, or whose signature is wrong, is reported in the faults and not recorded;
// one bad request does not keep the others out.
func Receive(ctx context.Context, e *estate.Estate, inputs []Input, sender string) (out []Received, head journal.Head,
	faults []error) {
	for _, in := range inputs {
		found, errs := readRequests(in)
		faults = append(faults, errs...)
		out = append(out, found...)
	}
	if len(out) == 0 {
		return nil, head, faults
	}
	flaws := scrutinise(out)
	var err error
	done := 0
	for part := range slices.Chunk(out, receiveAtOnce) {
		if head, err = receive(ctx, e, part, flaws, sender); err != nil {
			faults = append(faults, fmt.Errorf("%d of %d were not received: %w", len(out)-done, len(out), err))
			break
		}
		done += len(part)
	}
	out = out[:done] // those before are on record
	for i := range out {
		if out[i].Record, err = e.Records.Request(ctx, out[i].Record.Number); err != nil {
			return nil, head, append(faults, err)
		}
	}
	return out, head, faults
}

// receiveAtOnce is how many requests one transaction records: others wait for it.
const receiveAtOnce = 500

// scrutinise looks at the keys of many requests in the way that takes long, before
// anything is locked.
func scrutinise(list []Received) map[[32]byte]finding.List {
	var mu sync.Mutex
	out := map[[32]byte]finding.List{}
	estate.OnAllCores(len(list), func(i int) {
		k := list[i].Request.Key
		if bad := k.Scrutiny().Refusing(); len(bad) > 0 && len(k.Weakness().Refusing()) == 0 {
			mu.Lock()
			out[k.Fingerprint()] = bad
			mu.Unlock()
		}
	})
	return out
}

func receive(ctx context.Context, e *estate.Estate, list []Received, flaws map[[32]byte]finding.List,
	sender string) (journal.Head, error) {
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		var entries []event.Record
		for i := range list {
			more, err := receiving(tx, &list[i], flaws, sender)
			if err != nil {
				return nil, err
			}
			entries = append(entries, more...)
		}
		return entries, nil
	})
}

// receiving records one request inside an act; nothing where it is on record already.
func receiving(tx store.Tx, r *Received, flaws map[[32]byte]finding.List, sender string) ([]event.Record, error) {
	n, known, err := tx.AddRequest(r.Request, sender)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", r.Source, err)
	}
	r.Record.Number, r.Known = n, known
	if known {
		return nil, nil
	}
	for _, f := range flaws[r.Request.Key.Fingerprint()] {
		if err := tx.AddFlaw(r.Request.Key.Fingerprint(), f); err != nil {
			return nil, err
		}
	}
	return []event.Record{event.On(fmt.Sprintf("R%d", n), event.Received{SHA256: fmt.Sprintf("%x", r.Request.SHA256()),
		Title: r.Request.Title(), From: sender, Source: r.Source})}, nil
}

// ReadOne reads an input that holds one request and nothing else. Nothing is on record yet.
func ReadOne(in Input) (Received, error) {
	found, faults := readRequests(in)
	switch {
	case len(faults) > 0:
		return Received{}, fault.New(fault.BadInput, "%w", faults[0])
	case len(found) == 0:
		return Received{}, fault.New(fault.BadInput, "%s: there is no signing request in it", in.Name)
	case len(found) > 1:
		return Received{}, fault.New(fault.BadInput, "%s: there are %d signing requests in it: send one at a time",
			in.Name, len(found))
	}
	return found[0], nil
}

// ReceiveOne puts a request that was read on record, with what also records in the same act, and returns its number.
// The same bytes are not received twice.
func ReceiveOne(ctx context.Context, e *estate.Estate, r Received, sender string,
	also func(tx store.Tx, number string) ([]event.Record, error)) (number string, err error) {
	into := ReceivingOne(r, sender)
	_, err = e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		n, records, err := into(tx)
		if err != nil {
			return nil, err
		}
		number = fmt.Sprintf("R%d", n)
		more, err := also(tx, number)
		return append(records, more...), err
	})
	return number, err
}

// ReceivingOne is what puts a request that was read on record inside an act. What takes long is done now.
func ReceivingOne(r Received, sender string) func(tx store.Tx) (number int64, records []event.Record, err error) {
	flaws := scrutinise([]Received{r})
	return func(tx store.Tx) (int64, []event.Record, error) {
		records, err := receiving(tx, &r, flaws, sender)
		if err == nil && r.Known {
			err = fault.New(fault.Refused, "this very request was handed in before: go back to the address that you "+
				"were given then, or make a new request")
		}
		return r.Record.Number, records, err
	}
}

func readRequests(in Input) (out []Received, faults []error) {
	c, err := bundle.Read(in.Data)
	if err != nil {
		return nil, []error{fmt.Errorf("%s: %w", in.Name, err)}
	}
	for _, p := range c.Problems {
		faults = append(faults, fmt.Errorf("%s: %w", in.Name, p))
	}
	for _, o := range c.Objects {
		if o.Kind != bundle.Request {
			faults = append(faults, notARequest(in.Name, o))
			continue
		}
		r, err := request.Read(o.DER)
		if err == nil {
			err = r.Proven()
		}
		if err != nil {
			faults = append(faults, fmt.Errorf("%s: %w: ask for it again", place(in.Name, o), err))
			continue
		}
		out = append(out, Received{Request: r, Source: place(in.Name, o), Remarks: c.Remarks})
	}
	return out, faults
}

func place(name string, o bundle.Object) string {
	if o.Line == 0 {
		return name
	}
	return fmt.Sprintf("%s:%d", name, o.Line)
}

func notARequest(name string, o bundle.Object) error {
	next := advice.To("look at it", advice.Read, "file", name)
	switch o.Kind {
	case bundle.PrivateKey, bundle.EncryptedKey:
		next = advice.Say("a private key stays on its machine and is sent to nobody; ask for the request that " +
			"belongs to it")
	case bundle.Certificate:
		next = advice.Say("ask for the request that it came from")
	}
	return fault.New(fault.BadInput, "%s: this is a %s and not a signing request", place(name, o), o.Kind).
		On(fault.File.Named("%s", name)).Then(next)
}
