package transfer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/operator"
	"ironseal/pki/span"
)

// Where an estate has operators, they approve what travels: each signs the manifest, which names every file by its
// hash. The signatures stand in a file of their own in the folder, since they come after the manifest. Whoever opens
// the folder verifies them, and knows the people by their keys: operators of its own, or those that its settings name.

// ApprovalsFile is the file of a transfer folder with what people signed.
const ApprovalsFile = "approvals.json"

const (
	mostApprovals     = 32
	mostApprovalsFile = 256 << 10
)

// Approval is that someone agrees to all that a transfer folder holds.
type Approval struct {
	Name      string `json:"name"` // as their own estate calls them
	PublicKey string `json:"key"`  // a line, as SSH writes it
	Signature string `json:"signature"`

	Key operator.Key `json:"-"`
}

// approvalBytes are what is signed.
func approvalBytes(id string, manifest []byte) []byte {
	return fmt.Appendf(nil, "approve transfer %s %x", id, sha256.Sum256(manifest))
}

// readApprovals reads and verifies the approvals of a folder. One that is not right refuses the folder.
func readApprovals(data []byte, id string, manifest []byte) ([]Approval, error) {
	var list []Approval
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&list); err != nil || len(list) > mostApprovals {
		return nil, errors.New("its approvals cannot be read: have them signed again")
	}
	for i := range list {
		a := &list[i]
		err := operator.CheckName(a.Name)
		if err == nil {
			a.Key, err = operator.ParseKey(a.PublicKey)
		}
		var signature []byte
		if err == nil {
			signature, err = base64.StdEncoding.DecodeString(a.Signature)
		}
		if err == nil {
			err = a.Key.Verify(approvalBytes(id, manifest), signature)
		}
		if err != nil {
			return nil, fault.New(fault.Refused, "the approval of %q does not hold: have the folder approved again: %w",
				a.Name, err)
		}
		if slices.ContainsFunc(list[:i], func(b Approval) bool { return b.Key.Same(a.Key) }) {
			return nil, fault.New(fault.Refused, "one key approved it twice, the second time as %q: each key "+
				"counts once",
				a.Name)
		}
	}
	return list, nil
}

// writeApprovals is the file with approvals.
func writeApprovals(list []Approval) ([]byte, error) {
	data, err := json.MarshalIndent(list, "", "  ")
	return append(data, '\n'), err
}

// approved is the approval of the one who acts; nil where the estate has no operators.
func approved(ctx context.Context, e *estate.Estate, id string, manifest []byte) (*Approval, error) {
	if _, any, err := e.Acting(ctx); err != nil || !any {
		return nil, err
	}
	who, sign, err := e.Signing(ctx)
	if err != nil {
		return nil, err
	}
	signature, err := sign(approvalBytes(id, manifest))
	if err != nil {
		return nil, err
	}
	a := Approval{Name: who.Name, PublicKey: who.Key.String(), Signature: base64.StdEncoding.EncodeToString(signature),
		Key: who.Key}
	return &a, who.Key.Verify(approvalBytes(id, manifest), signature)
}

// ownApproval is the file with the approval of whoever packs a folder; none where the estate has no operators.
func ownApproval(ctx context.Context, e *estate.Estate, id string, manifest []byte) ([]delivery.File, error) {
	mine, err := approved(ctx, e, id, manifest)
	if err != nil || mine == nil {
		return nil, err
	}
	data, err := writeApprovals([]Approval{*mine})
	return []delivery.File{{Name: ApprovalsFile, Data: data}}, err
}

// approvalsIn reads the approvals of a folder, where it has some.
func approvalsIn(dir, id string, manifest []byte) ([]Approval, error) {
	data, err := disk.ReadRegular(filepath.Join(dir, ApprovalsFile), mostApprovalsFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return readApprovals(data, id, manifest)
}

// Approve adds the approval of the one who acts to a folder that was packed here and is as it was packed.
func Approve(ctx context.Context, e *estate.Estate, c Carried) ([]Approval, journal.Head, error) {
	packed := false
	if err := e.Records.EntriesOf(ctx, event.TransferPacked{}.Act(), func(en journal.Entry) error {
		p, err := event.As[event.TransferPacked](en)
		packed = packed || err == nil && p.ID == c.Errand.ID && p.CheckCode == c.Code
		return err
	}); err != nil {
		return nil, journal.Head{}, err
	}
	if !packed {
		return nil, journal.Head{}, fault.New(fault.Refused, "transfer %s: it was not packed at this estate: "+
			"operators "+
			"approve what their own estate sends", c.Dir)
	}
	mine, err := approved(ctx, e, c.Errand.ID, c.manifest)
	if err == nil && mine == nil {
		err = fault.New(fault.Refused, "there are no operators who could approve it")
	}
	if err != nil {
		return nil, journal.Head{}, err
	}
	if slices.ContainsFunc(c.Approvals, func(a Approval) bool { return a.Name == mine.Name || a.Key.Same(mine.Key) }) {
		return nil, journal.Head{}, fault.New(fault.Refused, "%s approved it already: each operator counts once",
			mine.Name)
	}
	head, err := e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		return []event.Record{event.On("transfer", event.TransferApproved{ID: c.Errand.ID, CheckCode: c.Code,
			Digest: hex.EncodeToString(sum(c.manifest)), Signature: mine.Signature})}, nil
	})
	if err != nil {
		return nil, head, err
	}
	list := append(slices.Clone(c.Approvals), *mine)
	data, err := writeApprovals(list)
	if err == nil {
		err = e.Env.Disk.Replace(filepath.Join(c.Dir, ApprovalsFile), data, 0o644)
	}
	return list, head, err
}

func sum(data []byte) []byte {
	s := sha256.Sum256(data)
	return s[:]
}

// Voucher is an approval as this estate sees it.
type Voucher struct {
	Name        string `json:"name" doc:"as their own estate calls them"`
	Fingerprint string `json:"key_sha256" doc:"of their SSH key"`
	Known       string `json:"known_as" doc:"who has this key here; empty for an unknown key"`
}

// Vouchers says who approved a folder, as far as this estate knows them: by their keys.
func Vouchers(ctx context.Context, e *estate.Estate, c Carried) ([]Voucher, error) {
	operators, err := estate.OperatorsIn(ctx, e.Records)
	if err != nil {
		return nil, err
	}
	named, err := e.Settings.Approvals.Named()
	if err != nil {
		return nil, err
	}
	out := []Voucher{}
	for _, a := range c.Approvals {
		v := Voucher{Name: a.Name, Fingerprint: a.Key.Fingerprint()}
		for _, n := range named {
			if n.Key.Same(a.Key) {
				v.Known = n.Name
			}
		}
		for _, o := range operators {
			if o.Key.Same(a.Key) && event.May(o.Role, event.TransferApproved{}.Act()) == nil {
				v.Known = o.Name
			}
		}
		out = append(out, v)
	}
	return out, nil
}

// known are the names of those who are known here, once each.
func known(list []Voucher) (out []string) {
	for _, v := range list {
		if v.Known != "" && !slices.Contains(out, v.Known) {
			out = append(out, v.Known)
		}
	}
	return out
}

// enough refuses a folder that fewer known people approved than the settings ask for.
func enough(e *estate.Estate, c Carried, list []Voucher) error {
	need, have := e.Settings.Approvals.Transfers, known(list)
	if e.Rehearsal || len(have) >= need {
		return nil
	}
	who := "none"
	if len(have) > 0 {
		who = strings.Join(have, ", ")
	}
	return fault.New(fault.Refused, "transfer %s: it needs the approval of %s who are known here, and has that of %s: "+
		"nothing was imported", c.Dir, span.Count(need, "operator"), who)
}
