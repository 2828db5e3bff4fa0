package estate

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/lifecycle"
	"ironseal/pki/request"
)

// Requests lists the requests in a state, or all for "".
func (e *Estate) Requests(ctx context.Context, state lifecycle.RequestState) ([]store.Request, error) {
	return e.Records.Requests(ctx, state)
}

// ParseNumber reads "R7" or "7".
func ParseNumber(s string) (int64, error) {
	digits := strings.TrimSpace(s)
	if rest, ok := strings.CutPrefix(strings.ToUpper(digits), "R"); ok {
		digits = rest
	}
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || n < 1 || digits[0] == '+' {
		return 0, fault.New(fault.BadInput, "%q is not a request: requests are numbered R1, R2 …", s).
			Then(advice.To("see them", advice.ListRequests))
	}
	return n, nil
}

// Request finds a request and reads it.
func (e *Estate) Request(ctx context.Context, name string) (store.Request, *request.Request, error) {
	n, err := ParseNumber(name)
	if err != nil {
		return store.Request{}, nil, err
	}
	rec, err := e.Records.Request(ctx, n)
	if errors.Is(err, fault.NotFound) {
		return rec, nil, fault.New(fault.NotFound, "R%d: there is no such request", n).On(fault.Request.Named("R%d",
			n)).
			Then(advice.To("see them", advice.ListRequests, "state", "any"))
	}
	if err != nil {
		return rec, nil, err
	}
	r, err := request.Read(rec.DER)
	if err != nil {
		return rec, nil, fmt.Errorf("R%d on record cannot be parsed: %w", n, err)
	}
	return rec, r, nil
}
