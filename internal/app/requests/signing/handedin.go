package signing

import (
	"context"
	"fmt"
	"strings"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/san"
)

// DeskSender begins the sender of a request that was handed in at the desk: what follows is what the person said, and
// no one verified it.
const DeskSender = "desk: "

// HandedIn is what the sender of a request said at the desk; nil where the request came another way.
func HandedIn(ctx context.Context, from store.DerivedReader, rec store.Request) (*event.HandedIn, error) {
	if !strings.HasPrefix(rec.Sender, DeskSender) {
		return nil, nil
	}
	en, found, err := from.DerivedOf(ctx, event.Submissions, fmt.Sprintf("R%d", rec.Number))
	if err != nil || !found {
		return nil, err
	}
	h, err := event.As[event.HandedIn](en)
	return &h, err
}

// handedIn reads it, and the names that were typed beside the request.
func (p *Planning) handedIn(ctx context.Context, e *estate.Estate, rec store.Request) (*event.HandedIn, []san.Name,
	error) {
	p.asking.Lock()
	defer p.asking.Unlock()
	h, err := HandedIn(ctx, e.Records, rec)
	if err != nil || h == nil {
		return nil, nil, err
	}
	var names []san.Name
	for _, typed := range h.Names {
		n, err := san.ParseTyped(typed)
		if err != nil {
			return nil, nil, fmt.Errorf("R%d: the name %q beside it: %w", rec.Number, typed, err)
		}
		names = append(names, n)
	}
	return h, names, nil
}
