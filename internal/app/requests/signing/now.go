package signing

import (
	"context"
	"fmt"

	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore"
	"ironseal/internal/store"
	"ironseal/pki/issue"
	"ironseal/pki/journal"
)

// SignUnrecorded signs a sheet whose request is not on record yet, and records both in one act: first records the
// request, tells its number, and may still say that nothing is to be signed. Then the signature is thrown away. Nothing
// that was signed leaves before it is on record.
func SignUnrecorded(ctx context.Context, e *estate.Estate, s *Sheet,
	first func(tx store.Tx) (number int64, records []event.Record, signs bool, err error)) (journal.Head, error) {
	if r := s.Findings().Refusing(); len(r) > 0 {
		return journal.Head{}, &issue.Refused{About: s.Record.Title, Findings: r}
	}
	made := prepare(e, s)
	if made.Err != nil {
		return journal.Head{}, made.Err
	}
	signer, err := e.Keys.Open(ctx, s.Issuer.Certificate.Key, s.Issuer.Authority.Handle, keystore.ForCertificate)
	if err != nil {
		return journal.Head{}, err
	}
	made = signOne(e, made, signer)
	signer.Close()
	if made.Err != nil {
		return journal.Head{}, made.Err
	}
	head, err := e.Act(ctx, func(tx store.Tx) ([]event.Record, error) {
		number, records, signs, err := first(tx)
		if err != nil || !signs {
			return records, err
		}
		s.Record.Number = number
		more, err := recordSigned(ctx, e, tx, []SignResult{made})
		return append(records, more...), err
	})
	if err == nil {
		err = e.Env.Step(estate.StepRecorded)
	}
	if err != nil {
		return head, fmt.Errorf("nothing was signed: %w", err)
	}
	return head, nil
}
