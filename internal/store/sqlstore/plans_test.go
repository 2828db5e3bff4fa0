package sqlstore

import (
	"context"
	"strings"
	"testing"

	"ironseal/internal/store"
)

// plan is how the database answers a question, a line a step.
func plan(t *testing.T, s *Store, question string, args ...any) string {
	t.Helper()
	rows, err := s.Querier().QueryContext(ctx, "EXPLAIN QUERY PLAN "+question, args...)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var id, parent, unused int
		var step string
		if err := rows.Scan(&id, &parent, &unused, &step); err != nil {
			t.Fatal(err)
		}
		out = append(out, step)
	}
	return strings.Join(out, "\n")
}

// What every act and every day asks must not become slower with what is on record: it looks up, and reads no table or
// index from end to end.
func TestDailyQuestionsLookUp(t *testing.T) {
	s := create(t)
	for name, q := range map[string]struct {
		question string
		args     []any
		wants    string
	}{
		"the end of the journal, behind a known entry": {endQuestion(s.Querier(), 7), endArguments(7),
			"SEARCH journal USING INTEGER PRIMARY KEY (rowid>?)"},
		"requests that wait": {"SELECT " + requestColumns + " FROM request WHERE state = ? ORDER BY number",
			[]any{"waiting"}, "SEARCH request USING INDEX request_state (state=?)"},
		"the last part of a generation's lists": {"SELECT coalesce(max(part), 0) FROM certificate WHERE" +
			byGeneration, []any{"services.g1"},
			"SEARCH certificate USING COVERING INDEX certificate_issuer (issuer=?)"},
		"certificates that came from no request": {"SELECT count(*) FROM certificate c WHERE " +
			"coalesce(c.request, 0) = 0 AND c.template IS NOT NULL", nil, "INDEX certificate_alone"},
	} {
		t.Run(name, func(t *testing.T) {
			if got := plan(t, s, q.question, q.args...); !strings.Contains(got, q.wants) {
				t.Errorf("it does not say %q, but\n%s", q.wants, got)
			}
		})
	}
}

// A snapshot reads the hierarchy once; whoever reads what is newest sees a change.
func TestTheHierarchyOfAMoment(t *testing.T) {
	s := create(t)
	err := s.View(context.Background(), func(snapshot store.Store) error {
		first, err := snapshot.Hierarchy(ctx)
		if err != nil {
			return err
		}
		if _, err := s.SQL().Exec("INSERT INTO authority (handle, holder) VALUES ('yard', 'here')"); err != nil {
			t.Fatal(err)
		}
		again, err := snapshot.Hierarchy(ctx)
		if len(first) != 0 || len(again) != 0 {
			t.Errorf("in the snapshot: %d authorities, then %d", len(first), len(again))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Hierarchy(ctx); err == nil {
		t.Error("afterwards nobody tells that an authority has no certificate")
	}
}
