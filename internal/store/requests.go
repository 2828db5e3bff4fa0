package store

import (
	"context"
	"time"

	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// Request is a request on record.
type Request struct {
	Number   int64
	DER      []byte
	Title    string
	Sender   string
	Received time.Time
	State    lifecycle.RequestState
	Reason   string
	Decided  time.Time
}

// AddedRequest is the outcome of a request that was to be recorded.
type AddedRequest struct {
	Number int64
	Known  bool // the same bytes were on record already
}

// UnfinishedWithdrawal is a draft's request that was withdrawn and whose key was not destroyed
// yet: an act that was cut off in between.
type UnfinishedWithdrawal struct {
	Number int64
	File   string
}

// RequestsReader answers questions about requests and drafts.
type RequestsReader interface {
	// DraftKey tells where the key of a draft was written, or "".
	DraftKey(ctx context.Context, key [32]byte) (file string, encrypted bool, err error)
	// UnfinishedWithdrawal lists the requests whose withdrawal was cut off: their keys are still there.
	UnfinishedWithdrawals(ctx context.Context) ([]UnfinishedWithdrawal, error)
	// DraftFiles are the places where drafts' keys were written.
	DraftFiles(ctx context.Context) ([]string, error)
	// DraftKeys are the fingerprints of all keys that were drafted here.
	DraftKeys(ctx context.Context) (map[[32]byte]bool, error)
	// KnownKeys are the fingerprints, in hex, of all keys that belong to an authority or
	// to a request that one sent, answered or not. It reads no certificate, so that one
	// that is damaged hides no key.
	KnownKeys(ctx context.Context) (map[string]bool, error)
	// Request finds a request by its number.
	Request(ctx context.Context, number int64) (Request, error)
	// RequestBySHA finds a request by the hash of its bytes.
	RequestBySHA(ctx context.Context, sum [32]byte) (Request, error)
	// Requests lists requests in the given state, or all for "".
	Requests(ctx context.Context, state lifecycle.RequestState) ([]Request, error)
	// EachRequest calls fn for the requests in the given state, or for all for "".
	EachRequest(ctx context.Context, state lifecycle.RequestState, fn func(Request)) error
	// RequestsByKey lists the requests in a state that have a key.
	RequestsByKey(ctx context.Context, state lifecycle.RequestState, key [32]byte) (out []Request, err error)
	// KeySeenAs returns the subjects of the certificates that have this key, the
	// earliest first.
	KeySeenAs(ctx context.Context, key [32]byte) ([]string, error)
	// Count counts the records. Certificates for keys that the machine made for one use are left out.
	Count(ctx context.Context) (Counts, error)
	// Holders tells who is known to hold a certificate: whoever sent its request, and
	// whoever it was handed to.
	Holders(ctx context.Context, certificate int64) ([]string, error)
}

// RequestsWriter records changes of requests and drafts.
type RequestsWriter interface {
	// AddDraft remembers where the key of a draft was written.
	AddDraft(key [32]byte, file string, encrypted bool) error
	// DropDraft forgets a draft's key.
	DropDraft(key [32]byte) error
	// EncryptDraft records that the key of a draft is encrypted now.
	EncryptDraft(key [32]byte) error
	// AddRequest records a request. When the same bytes are on record already,
	// their number is returned and known is true.
	AddRequest(r *request.Request, sender string) (number int64, known bool, err error)
	// AddRequests is AddRequest of many.
	AddRequests(list []*request.Request, sender string) ([]AddedRequest, error)
	// SetState moves a request that is waiting or sent to another state. It fails when
	// the request is neither any more, and says what it is now.
	SetState(number int64, state lifecycle.RequestState, reason string) error
	// CheckWaiting says what a request is now, when it waits no longer.
	CheckWaiting(number int64) error
	// SetStates moves waiting requests to another state, all or none.
	SetStates(numbers []int64, state lifecycle.RequestState) error
	// AddHolder remembers who was handed a certificate; "" where no one was named.
	AddHolder(certificate int64, who string) error
}
