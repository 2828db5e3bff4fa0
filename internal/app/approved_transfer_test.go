package app_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/internal/app/transfer"
	"ironseal/internal/estate"
	"ironseal/pki/lifecycle"
)

// stick packs one request of an estate into a folder.
func stick(t *testing.T, e *estate.Estate, host string) string {
	t.Helper()
	must0(t, receiveAs(e, t, host))
	dir := filepath.Join(t.TempDir(), "stick")
	_, _, err := transfer.Pack(ctx, e, transfer.PackAsk{Dir: dir, All: true})
	must0(t, err)
	return dir
}

func approveAs(t *testing.T, e *estate.Estate, dir string) error {
	t.Helper()
	c, err := transfer.ReadFolder(dir)
	must0(t, err)
	_, _, err = transfer.Approve(ctx, e, c)
	return err
}

// editApprovals changes the file of approvals in a folder.
func editApprovals(t *testing.T, dir string, edit func([]transfer.Approval) []transfer.Approval) {
	t.Helper()
	path := filepath.Join(dir, transfer.ApprovalsFile)
	data, err := os.ReadFile(path)
	must0(t, err)
	var list []transfer.Approval
	must0(t, json.Unmarshal(data, &list))
	data, err = json.Marshal(edit(list))
	must0(t, err)
	must0(t, os.WriteFile(path, data, 0o644))
}

// safeFor is an estate without a network that wants two approvals of these people.
func safeFor(t *testing.T, people ...*person) *estate.Estate {
	t.Helper()
	_, e := newEstate(t)
	e.Settings.Approvals.Transfers = 2
	for _, p := range people {
		e.Settings.Approvals.Approvers = append(e.Settings.Approvals.Approvers, p.name+" "+p.key(t).String())
	}
	return e
}

func openAt(e *estate.Estate, dir string) (transfer.Opened, error) {
	c, err := transfer.ReadFolder(dir)
	if err != nil {
		return transfer.Opened{}, err
	}
	return transfer.OpenFolder(ctx, e, c, nil)
}

// What travels carries the approvals of those who sent it; the other end verifies them, and asks for as many as its
// settings say.
func TestApprovalsTravel(t *testing.T) {
	t.Parallel()
	dir, ana, ben, cleo, dag, _ := team(t)
	safe := safeFor(t, ana, ben)
	folder := stick(t, by(t, dir, ana), "quay.ternbay.example")
	if _, err := openAt(safe, folder); err == nil || !strings.Contains(err.Error(), "has that of ana") {
		t.Errorf("one approval: %v", err)
	}
	if err := approveAs(t, by(t, dir, ana), folder); err == nil || !strings.Contains(err.Error(), "counts once") {
		t.Errorf("ana twice: %v", err)
	}
	for _, p := range []*person{cleo, dag} {
		if err := approveAs(t, by(t, dir, p), folder); err == nil {
			t.Errorf("%s may not approve", p.name)
		}
	}
	if err := approveAs(t, safe, folder); err == nil {
		t.Error("an estate that did not pack it approves it")
	}
	must0(t, approveAs(t, by(t, dir, ben), folder))
	o, err := openAt(safe, folder)
	must0(t, err)
	if len(o.Received) != 1 || len(o.Approved) != 2 || o.Approved[1].Known != "ben" {
		t.Errorf("%+v", o)
	}
	waiting, err := safe.Records.Requests(ctx, lifecycle.Waiting)
	must0(t, err)
	if len(waiting) != 1 || !strings.HasSuffix(waiting[0].Sender, ", approved by ana, ben") ||
		!transfer.IsSender(waiting[0].Sender) {
		t.Errorf("%+v", waiting)
	}
	for _, d := range []string{dir, safe.Dir} {
		if f := checked(t, d); len(f) > 0 {
			t.Errorf("not sound: %v", f)
		}
	}
}

// Approvals that are forged, of another folder, changed, or those of one key under two names, import nothing.
func TestForgedApprovalsOfATransferAreRefused(t *testing.T) {
	t.Parallel()
	dir, ana, ben, _, _, _ := team(t)
	stranger := newPerson(t, "ben")
	a, b := by(t, dir, ana), by(t, dir, ben)
	first, second := stick(t, a, "one.ternbay.example"), stick(t, a, "two.ternbay.example")
	must0(t, approveAs(t, b, first))
	must0(t, approveAs(t, b, second))
	var others []transfer.Approval
	editApprovals(t, second, func(list []transfer.Approval) []transfer.Approval { others = list; return list })
	type edit = func([]transfer.Approval) []transfer.Approval
	for name, edit := range map[string]edit{
		"taken from another folder": func(list []transfer.Approval) []transfer.Approval {
			list[1] = others[1]
			return list
		},
		"one key, two names": func(list []transfer.Approval) []transfer.Approval {
			list[1] = list[0]
			list[1].Name = "ben"
			return list
		},
		"another key's name": func(list []transfer.Approval) []transfer.Approval {
			list[1].PublicKey = stranger.key(t).String()
			return list
		},
		"a signature is changed": func(list []transfer.Approval) []transfer.Approval {
			list[1].Signature = list[1].Signature[:40] + "AAAA" + list[1].Signature[44:]
			return list
		},
		"a name of control characters": func(list []transfer.Approval) []transfer.Approval {
			list[1].Name = "ben\x1b[2J"
			return list
		},
		"taken away": func(list []transfer.Approval) []transfer.Approval { return list[:1] },
		"a hundred": func(list []transfer.Approval) []transfer.Approval {
			for range 100 {
				list = append(list, list[0])
			}
			return list
		},
	} {
		t.Run(name, func(t *testing.T) {
			safe := safeFor(t, ana, ben)
			changed := filepath.Join(t.TempDir(), "changed")
			must0(t, os.CopyFS(changed, os.DirFS(first)))
			editApprovals(t, changed, edit)
			if o, err := openAt(safe, changed); err == nil {
				t.Errorf("it was imported: %+v", o)
			}
			if waiting, err := safe.Records.Requests(ctx, lifecycle.Waiting); err != nil || len(waiting) != 0 {
				t.Errorf("%v, %v", waiting, err)
			}
		})
	}
	t.Run("turned round", func(t *testing.T) {
		changed := filepath.Join(t.TempDir(), "changed")
		must0(t, os.CopyFS(changed, os.DirFS(first)))
		editApprovals(t, changed, func(list []transfer.Approval) []transfer.Approval {
			return []transfer.Approval{list[1], list[0]}
		})
		_, err := openAt(safeFor(t, ana, ben), changed)
		must0(t, err)
	})
	t.Run("somebody who is not known does not count", func(t *testing.T) {
		if _, err := openAt(safeFor(t, ana, stranger), first); err == nil {
			t.Error("it was imported")
		}
	})
}
