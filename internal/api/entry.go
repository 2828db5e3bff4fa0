package api

import (
	"encoding/json"
	"fmt"
	"strings"

	"ironseal/pki/journal"
)

// Entry is an entry of the journal.
type Entry struct {
	Number int64          `json:"number" doc:"from 1, without gaps"`
	At     string         `json:"time" doc:"when"`
	Actor  string         `json:"actor" doc:"who"`
	Act    string         `json:"act" doc:"what was done"`
	Object string         `json:"object" doc:"to what"`
	Detail map[string]any `json:"detail" doc:"what belongs to the act"`
	Hash   string         `json:"hash" doc:"SHA-256 of the entry and of the hash before, in hex"`
	Before string         `json:"previous" doc:"the hash of the entry before"`
}

// EntryOf is an entry as JSON has it: its detail is an object, whose names have no blanks.
func EntryOf(en journal.Entry) Entry {
	out := Entry{Number: en.Seq, At: Time(en.At), Actor: en.Actor, Act: en.Act, Object: en.Object,
		Detail: map[string]any{}, Hash: fmt.Sprintf("%x", en.Hash), Before: fmt.Sprintf("%x", en.Prev)}
	var detail map[string]any
	switch err := json.Unmarshal([]byte(en.Detail), &detail); {
	case err == nil:
		out.Detail, _ = tidy(detail).(map[string]any)
	case en.Detail != "":
		out.Detail["text"] = en.Detail
	}
	return out
}

// tidy writes names with underscores, and leaves out what is not known.
func tidy(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, x := range v {
			if x != nil && x != "" {
				out[strings.ReplaceAll(k, " ", "_")] = tidy(x)
			}
		}
		return out
	case []any:
		for i := range v {
			v[i] = tidy(v[i])
		}
	}
	return v
}
