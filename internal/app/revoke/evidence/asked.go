package evidence

import (
	"context"

	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/estate"
	"ironseal/pki/path"
	"ironseal/pki/status"
)

// Asked lets a question about chains ask whether the certificates of a chain stand: by the lists
// that the estate published or took in, and by its records.
func Asked(ctx context.Context, e *estate.Estate, q path.Question) (path.Question, error) {
	q, err := byLists(ctx, e, q)
	compromise.Known(ctx, e).Into(&q)
	return q, err
}

// Acted is Asked for a question by which something is imported permanently: anchors whose key is
// suspected are left out, and an authority whose key is suspected is refused.
func Acted(ctx context.Context, e *estate.Estate, q path.Question) (path.Question, error) {
	q, err := byLists(ctx, e, q)
	if err != nil {
		return q, err
	}
	return compromise.Acted(ctx, e, q)
}

func byLists(ctx context.Context, e *estate.Estate, q path.Question) (path.Question, error) {
	var g Gathered
	if err := g.OfEstate(ctx, e); err != nil {
		return q, err
	}
	if len(g.Lists) > 0 {
		g.Late = status.ClocksDiffer
		q.Status = status.New(g.Evidence, q, false).Ask
	}
	return q, nil
}
