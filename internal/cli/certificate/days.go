package certificate

import (
	"time"

	"github.com/spf13/cobra"

	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/pki/label"
)

// days are the filters of a list by day, as typed.
type days struct{ signedSince, signedBefore, endsFrom, endsBefore string }

func (d *days) flags(c *cobra.Command) {
	c.Flags().StringVar(&d.signedSince, "signed-since", "", "only those that begin on this `DAY` or later")
	c.Flags().StringVar(&d.signedBefore, "signed-before", "", "only those that begin before this `DAY`")
	c.Flags().StringVar(&d.endsFrom, "ends-since", "", "only those that end on this `DAY` or later")
	c.Flags().StringVar(&d.endsBefore, "ends-before", "", "only those that end before this `DAY`")
}

// into reads the days, and the digits of a key, that were typed.
func (d days) into(w *estate.Filter) (err error) {
	for _, one := range []struct {
		typed string
		into  *time.Time
	}{{d.signedSince, &w.SignedFrom}, {d.signedBefore, &w.SignedBefore}, {d.endsFrom, &w.EndsFrom},
		{d.endsBefore, &w.EndsBefore}} {
		if one.typed == "" {
			continue
		}
		if *one.into, err = session.ParseTime(one.typed); err != nil {
			return &session.Status{Code: session.Usage, Err: err}
		}
	}
	if w.Key != "" {
		digits, odd := label.Digits(w.Key)
		if odd != 0 || digits == "" {
			return session.Misused("--key %q: use the digits of the key's SHA-256, as certificate show --all "+
				"prints them",
				w.Key)
		}
		w.Key = digits
	}
	return nil
}
