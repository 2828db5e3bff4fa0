package estate

import (
	"context"
	"encoding/json"

	"ironseal/internal/store"
	"ironseal/pki/journal"
)

// Identity is who acts, and how that is known.
type Identity struct {
	Name  string
	Known string // such as ByLogin; the journal tells it where it is anything else
}

// ByLogin says that somebody is who the operating system says.
const ByLogin = "login"

// As is the estate as another person acts on it: every act is given an estate, and with
// it who acts, so that one process can serve several.
func (e *Estate) As(who Identity) *Estate {
	theirs := *e
	theirs.World.Actor = who
	theirs.World = theirs.World.Filled()
	return &theirs
}

// Within is the estate as a change sees it, for what has to be asked again inside an act, when nobody
// else can write.
func (e *Estate) Within(tx store.Tx) *Estate {
	moment := *e
	moment.Records = tx.Seen()
	return &moment
}

// Act runs one change of the records, in the name of the one who acts.
func (e *Estate) Act(ctx context.Context, fn func(store.Tx) ([]journal.Entry, error)) (journal.Head, error) {
	// A change that has begun is finished even when the person presses Ctrl-C.
	return e.Records.Act(context.WithoutCancel(ctx), e.World.Now, e.World.Actor.Name,
		func() error { return e.World.Step(StepRecording) },
		func(tx store.Tx) ([]journal.Entry, error) {
			entries, err := fn(tx)
			for i := range entries {
				entries[i] = e.World.Actor.vouch(entries[i])
			}
			return entries, err
		})
}

// vouch adds to an entry how it is known who acted, where that is not the login.
func (who Identity) vouch(en journal.Entry) journal.Entry {
	var detail map[string]any
	if who.Known == "" || who.Known == ByLogin || json.Unmarshal([]byte(en.Detail), &detail) != nil || detail == nil {
		return en
	}
	detail["known by"] = who.Known
	if b, err := json.Marshal(detail); err == nil {
		en.Detail = string(b)
	}
	return en
}
