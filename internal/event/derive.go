package event

import (
	"fmt"
	"strings"
	"time"

	"ironseal/pki/journal"
)

// Kind is a kind of thing of which the newest entry is asked for often.
type Kind string

// The kinds, and what names a thing of each.
const (
	Parties      Kind = "party"        // its name; kept or removed
	PartiesSince Kind = "party since"  // its name: the entry that put it on record
	PartiesGone  Kind = "party gone"   // its name in lower case
	Incidents    Kind = "incident"     // its name; opened
	IncidentEnds Kind = "incident end" // its name; closed
	Observations Kind = "observation"  // the endpoint
	Servings     Kind = "serving"      // the endpoint: the last time that it presented a certificate
	Reports      Kind = "report"       // a store of a machine and a root, see ReportName
	Lists        Kind = "lists"        // the number of the entry: every entry that tells of lists
	Folders      Kind = "folder"       // its path
	Placements   Kind = "placement"    // what lists are about: the highest number in any folder
	HandOvers    Kind = "handover"     // the certificate's SHA-256
	ChangeOvers  Kind = "change-over"  // the earlier trust set
	Postponed    Kind = "postponed"    // the certificate's SHA-256: it is to be revoked later
	Restorations Kind = "restoration"  // empty
	Operators    Kind = "operator"     // its name
	OperatorKeys Kind = "operator key" // the fingerprint of a key that an operator has or had
	Proposals    Kind = "proposal"     // its name
	ProposalEnds Kind = "proposal end" // its name
	Approvals    Kind = "approval"     // see ApprovalName
	Files        Kind = "file"         // its path in an estate's directory, with slashes

	Invitations       Kind = "invitation"         // its name
	InvitationEnds    Kind = "invitation end"     // its name
	InvitationKeys    Kind = "invitation address" // the digest of its private address
	InvitationUses    Kind = "invitation use"     // its name: the last request by it
	Submissions       Kind = "hand in"            // the request's number
	SubmissionAddress Kind = "hand in address"    // the digest of its private address

	Codes       Kind = "code"        // its name
	CodeEnds    Kind = "code end"    // its name
	CodeDigests Kind = "code digest" // the digest of the code
	CodeUses    Kind = "code use"    // its name: the last machine by it
	Enrolments  Kind = "enrol"       // the request's number
	Grants      Kind = "grant"       // the template and the day, see GrantName: the last of that day
	Granted     Kind = "granted"     // the request's number
	Persons     Kind = "person"      // the request's number: why it waits for a person
	KeyIDs      Kind = "key id"      // the key identifier of a credential for accounts

	Accounts      Kind = "account"       // its identifier
	AccountEnds   Kind = "account end"   // its identifier
	AccountKeys   Kind = "account key"   // see AccountKeyName: the last account that had it
	Orders        Kind = "order"         // its identifier
	AccountOrders Kind = "account order" // the account: its last order
	OrderRequests Kind = "order request" // the order's identifier
	Challenges    Kind = "challenge"     // the order's identifier, a dot, and the name's number
	Transactions  Kind = "transaction"   // of SCEP, see TransactionName
)

// how says which of two entries about one thing counts.
type how int

const (
	newest how = iota // the later entry
	first             // the earlier entry
	latest            // the entry with the later moment or the higher number, see Mark.At
	drop              // none from now on
)

// Mark says that an entry tells of a thing.
type Mark struct {
	Kind Kind
	Name string
	At   string // a moment or a number, as text that sorts; empty where the order of entries decides
	how  how
}

// Later reports whether the later of two entries counts, whatever the earlier one was.
func (m Mark) Later() bool { return m.how == newest }

// Row is what is derived from the journal of a thing: which entry counts.
type Row struct {
	Seq int64
	At  string
}

// Apply says what is to be kept of a thing after an entry: the row, or nothing.
func (m Mark) Apply(seq int64, before Row, there bool) (Row, bool) {
	now := Row{seq, m.At}
	switch {
	case m.how == drop:
		return Row{}, false
	case there && (m.how == first || m.how == latest && m.At < before.At):
		return before, true
	}
	return now, true
}

// ReportName names a store of a machine and a root; an empty root is the store as a whole.
func ReportName(host, platform, store, sha256 string) string {
	return strings.Join([]string{host, platform, store, sha256}, "\x1f")
}

// PlacementName names what a list is about.
func PlacementName(s Scope) string { return fmt.Sprintf("%s\x1f%d\x1f%t", s.List, s.Part, s.Delta) }

// GrantName names what may be signed by a template on one day.
func GrantName(template, day string) string { return template + "\x1f" + day }

// AccountKeyName names the key of an account of a template.
func AccountKeyName(template, thumbprint string) string { return template + "\x1f" + thumbprint }

// ChallengeName names a name of an order.
func ChallengeName(order string, index int) string { return fmt.Sprintf("%s.%d", order, index) }

// TransactionName names a transaction of SCEP by a template.
func TransactionName(template, id string) string { return template + "\x1f" + id }

// Marks says of which things an entry tells.
func Marks(en journal.Entry) ([]Mark, error) {
	if en.Act == (Signed{}).Act() || en.Act == (Received{}).Act() { // nothing; and there are very many
		return nil, nil
	}
	e, err := Read(en)
	if err != nil {
		return nil, err
	}
	switch e := e.(type) {
	case *PartyKept:
		return []Mark{{Parties, en.Object, "", newest}, {PartiesSince, en.Object, "", first}}, nil
	case *PartyRemoved:
		return []Mark{{Parties, en.Object, "", drop}, {PartiesSince, en.Object, "", drop},
			{PartiesGone, strings.ToLower(en.Object), "", newest}}, nil
	case *IncidentOpened:
		return []Mark{{Incidents, en.Object, "", newest}}, nil
	case *IncidentClosed:
		return []Mark{{IncidentEnds, en.Object, "", newest}}, nil
	case *EndpointObserved:
		out := []Mark{{Observations, en.Object, "", newest}}
		if e.SHA256 != "" {
			out = append(out, Mark{Servings, en.Object, "", newest})
		}
		return out, nil
	case *RootsReported:
		return reported(e, en), nil
	case *ListsSigned, *ListsImported:
		return []Mark{{Lists, fmt.Sprintf("%020d", en.Seq), "", newest}}, nil
	case *ListsPlaced:
		out := []Mark{{Folders, en.Object, "", newest}}
		for _, l := range e.Lists {
			out = append(out, Mark{Placements, PlacementName(l.Scope()), fmt.Sprintf("%020d", l.Number), latest})
		}
		return out, nil
	case *HandedOver:
		return []Mark{{HandOvers, e.Certificate, "", newest}}, nil
	case *ChangeOverPlanned, *ChangeOverSwitched:
		return []Mark{{ChangeOvers, en.Object, "", newest}}, nil
	case *ChangeOverCancelled:
		return []Mark{{ChangeOvers, en.Object, "", drop}}, nil
	case *RevokeLater:
		return []Mark{{Postponed, e.Certificate, "", newest}}, nil
	case *Restored:
		return []Mark{{Restorations, "", "", newest}}, nil
	}
	if out := people(e, en); out != nil {
		return out, nil
	}
	return asked(e, en), nil
}

// people are the things that entries about operators, proposals and shared files tell of.
func people(e Event, en journal.Entry) []Mark {
	switch e.(type) {
	case *OperatorKept:
		out := []Mark{{Operators, en.Object, "", newest}}
		if o, err := OperatorIn(en); err == nil {
			out = append(out, Mark{OperatorKeys, o.Key.Fingerprint(), "", newest})
		}
		return out
	case *OperatorEnded:
		return []Mark{{Operators, en.Object, "", drop}}
	case *Proposed:
		return []Mark{{Proposals, en.Object, "", newest}}
	case *ProposalEnded:
		return []Mark{{ProposalEnds, en.Object, "", newest}}
	case *Approved:
		return []Mark{{Approvals, ApprovalName(en.Object, en.Actor), "", newest}}
	case *FileRecorded:
		return []Mark{{Files, en.Object, "", newest}}
	case *FileDropped:
		return []Mark{{Files, en.Object, "", drop}}
	}
	return nil
}

// Moment is when a report was made, and no later than it was recorded: a machine's clock may be ahead.
func (e RootsReported) Moment(en journal.Entry) time.Time {
	if at := en.At.Truncate(time.Second); e.When.After(at) {
		return at
	}
	return e.When
}

func reported(e *RootsReported, en journal.Entry) []Mark {
	at := journal.Stamp(e.Moment(en))
	out := []Mark{{Reports, ReportName(en.Object, e.Platform, e.Store, ""), at, latest}}
	for _, sum := range e.SHA256 {
		out = append(out, Mark{Reports, ReportName(en.Object, e.Platform, e.Store, sum), at, latest})
	}
	return out
}

// asked says of which things an entry tells that came of people at the desk and of machines.
func asked(e Event, en journal.Entry) []Mark {
	switch e := e.(type) {
	case *Invited:
		return []Mark{{Invitations, en.Object, "", newest}, {InvitationKeys, e.Address, "", newest}}
	case *InvitationEnded:
		return []Mark{{InvitationEnds, en.Object, "", newest}}
	case *HandedIn:
		out := []Mark{{Submissions, en.Object, "", newest}, {SubmissionAddress, e.Address, "", newest}}
		if e.Invitation != "" {
			out = append(out, Mark{InvitationUses, e.Invitation, "", newest})
		}
		return out
	}
	return enrolled(e, en)
}

// enrolled says of which things an entry tells that came of machines.
func enrolled(e Event, en journal.Entry) []Mark {
	switch e := e.(type) {
	case *CodeMade:
		out := []Mark{{Codes, en.Object, "", newest}, {CodeDigests, e.Digest, "", newest}}
		if e.KeyID != "" {
			out = append(out, Mark{KeyIDs, e.KeyID, "", newest})
		}
		return out
	case *CodeEnded:
		return []Mark{{CodeEnds, en.Object, "", newest}}
	case *Enrolled:
		out := []Mark{{Enrolments, en.Object, "", newest}}
		if e.Code != "" {
			out = append(out, Mark{CodeUses, e.Code, "", newest})
		}
		if e.Order != "" {
			out = append(out, Mark{OrderRequests, e.Order, "", newest})
		}
		if e.ID != "" {
			out = append(out, Mark{Transactions, TransactionName(e.Template, e.ID), "", newest})
		}
		return out
	case *SigningGranted:
		return []Mark{{Grants, GrantName(e.Template, e.Day), "", newest}, {Granted, en.Object, "", newest}}
	case *PersonDecides:
		return []Mark{{Persons, en.Object, "", newest}}
	case *AccountKept:
		out := []Mark{{Accounts, en.Object, "", newest}, {AccountKeys, AccountKeyName(e.Template, e.Thumbprint), "",
			newest}}
		if e.Code != "" && !e.Change {
			out = append(out, Mark{CodeUses, e.Code, "", newest})
		}
		return out
	case *AccountEnded:
		return []Mark{{AccountEnds, en.Object, "", newest}}
	case *OrderMade:
		return []Mark{{Orders, en.Object, "", newest}, {AccountOrders, e.Account, "", newest}}
	case *ChallengeTried:
		return []Mark{{Challenges, en.Object, "", newest}}
	}
	return nil
}
