package journal

import (
	"encoding/json"
	"fmt"
)

// Detail is the detail of an entry whose detail is a JSON object. What is not there, or of another type, is
// the type's zero value.
type Detail map[string]any

// Details reads the detail of an entry; its error says which entry cannot be read.
func (e Entry) Details() (Detail, error) {
	var d Detail
	if err := json.Unmarshal([]byte(e.Detail), &d); err != nil {
		return nil, fmt.Errorf("journal J%d: %w", e.Seq, err)
	}
	return d, nil
}

// Text is a text.
func (d Detail) Text(k string) string { s, _ := d[k].(string); return s }

// Flag is a truth value.
func (d Detail) Flag(k string) bool { b, _ := d[k].(bool); return b }

// Number is a whole number.
func (d Detail) Number(k string) int64 { n, _ := d[k].(float64); return int64(n) }

// List is a list of texts.
func (d Detail) List(k string) (out []string) {
	all, _ := d[k].([]any)
	for _, v := range all {
		s, _ := v.(string)
		out = append(out, s)
	}
	return out
}

// Objects is a list of objects.
func (d Detail) Objects(k string) (out []Detail) {
	all, _ := d[k].([]any)
	for _, v := range all {
		m, _ := v.(map[string]any)
		out = append(out, m)
	}
	return out
}

// Texts is an object whose values are texts.
func (d Detail) Texts(k string) map[string]string {
	out := map[string]string{}
	m, _ := d[k].(map[string]any)
	for key, v := range m {
		out[key], _ = v.(string)
	}
	return out
}
