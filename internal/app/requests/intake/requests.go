// Package intake imports signing requests, in whatever shape they come, drafts
// them for those who cannot, and puts aside what is not to be signed.
package intake

import (
	"context"
	"errors"
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
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// Input is bytes that came from somewhere: a file or a paste.
type Input struct {
	Name string // of the file; "standard input" for a paste
	Data []byte
	Line int // how many lines of the file are before it
}

// ReadInput reads a file, every file of a directory, or standard input ("-").
func ReadInput(arg string, stdin func() ([]byte, error)) ([]Input, error) {
	if arg == "-" {
		data, err := stdin()
		return []Input{{Name: "standard input", Data: data}}, err
	}
	info, err := os.Stat(arg)
	if err != nil || !info.IsDir() {
		data, err := disk.Read(arg, bundle.MostBytes)
		return []Input{{Name: arg, Data: data}}, err
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
		out = append(out, Input{Name: filepath.Join(arg, en.Name()), Data: data})
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
	p, err := recordPart(ctx, e, lookAt(inputs, estate.OnAllCores), sender)
	if err != nil {
		p.Faults = append(p.Faults, err)
	}
	return p.Received, p.Head, p.Faults
}

// recordPart records what was read. An error says that nothing more can be recorded; what is received then was before.
func recordPart(ctx context.Context, e *estate.Estate, p Part, sender string) (Part, error) {
	if len(p.Received) == 0 {
		return p, nil
	}
	flaws := scrutinise(p.Received)
	done := 0
	var failed error
	for part := range slices.Chunk(p.Received, receiveAtOnce) {
		head, err := receive(ctx, e, part, flaws, sender)
		if err != nil {
			failed = fmt.Errorf("%d of %d were not received: %w", len(p.Received)-done, len(p.Received), err)
			break
		}
		p.Head = head
		done += len(part)
	}
	p.Received = p.Received[:done] // those before are on record
	for i := range p.Received {
		if r := &p.Received[i]; r.Known {
			var err error
			if r.Record, err = e.Records.Request(ctx, r.Record.Number); err != nil {
				return p, errors.Join(failed, err)
			}
		}
	}
	return p, failed
}

// receiveAtOnce is how many requests one transaction records: others wait for it.
const receiveAtOnce = 1000

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
	return e.Act(ctx, func(tx store.Tx) ([]event.Record, error) { return receiving(tx, list, flaws, sender) })
}

// receiving records requests inside an act; nothing of those that are on record already.
func receiving(tx store.Tx, list []Received, flaws map[[32]byte]finding.List, sender string) ([]event.Record, error) {
	requests := make([]*request.Request, len(list))
	for i, r := range list {
		requests[i] = r.Request
	}
	added, err := tx.AddRequests(requests, sender)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", list[0].Source, err)
	}
	var told []event.ReceivedRequest
	for i := range list {
		r, n := &list[i], added[i].Number
		if r.Record.Number, r.Known = n, added[i].Known; r.Known {
			continue
		}
		title := r.Request.Title()
		r.Record = store.Request{Number: n, DER: r.Request.Raw, Title: title, Sender: sender, Received: tx.Now(),
			State: lifecycle.Waiting}
		if len(flaws) > 0 {
			for _, f := range flaws[r.Request.Key.Fingerprint()] {
				if err := tx.AddFlaw(r.Request.Key.Fingerprint(), f); err != nil {
					return nil, err
				}
			}
		}
		told = append(told, event.ReceivedRequest{Number: fmt.Sprintf("R%d", n),
			SHA256: fmt.Sprintf("%x", r.Request.SHA256()), Title: title, Source: r.Source})
	}
	return event.ReceivedOf(told, sender), nil
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
		one := []Received{r}
		records, err := receiving(tx, one, flaws, sender)
		r = one[0]
		if err == nil && r.Known {
			err = fault.New(fault.Refused, "this very request was handed in before: go back to the address that you "+
				"were given then, or make a new request")
		}
		return r.Record.Number, records, err
	}
}

// readRequests reads the requests of an input, and verifies that their senders have their keys.
func readRequests(in Input) (out []Received, faults []error) {
	p := lookAt([]Input{in}, estate.OnAllCores)
	return p.Received, p.Faults
}

// parsed reads the requests of an input.
func parsed(in Input) (out []Received, faults []error) {
	c, err := bundle.Read(in.Data)
	if err != nil {
		return nil, []error{fmt.Errorf("%s: %w", in.Name, err)}
	}
	for _, p := range c.Problems {
		faults = append(faults, fmt.Errorf("%s: %w", in.Name, p))
	}
	for _, o := range c.Objects {
		if o.Kind != bundle.Request {
			if o.Line > 0 {
				o.Line += in.Line
			}
			faults = append(faults, notARequest(in.Name, o))
			continue
		}
		if o.Line > 0 {
			o.Line += in.Line
		}
		r, err := request.Read(o.DER)
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
		next = advice.Say("a private key stays on its machine and is never sent; ask for the request that " +
			"belongs to it")
	case bundle.Certificate:
		next = advice.Say("ask for the request that it came from")
	}
	return fault.New(fault.BadInput, "%s: this is a %s and not a signing request", place(name, o), o.Kind).
		On(fault.File.Named("%s", name)).Then(next)
}
