package estate

import (
	"bytes"
	"sync"

	"ironseal/pki/template"
)

// Templates are read at every plan, and change seldom. What a text was parsed to is kept; the text itself is read from
// its file each time, and that of the template that it is based on.
var parsedTemplates = struct {
	mu sync.RWMutex
	by map[string]parsed
}{by: map[string]parsed{}}

type parsed struct {
	t     template.Template
	bases map[string][]byte // the texts that it is based on, by name
}

// mostTemplates bounds what is kept. Beyond it, all are forgotten.
const mostTemplates = 1000

// parsedTemplate is template.Parse, which is asked again only where a text is another than before.
func parsedTemplate(name string, data []byte, base func(string) ([]byte, error)) (template.Template, error) {
	key := name + "\x00" + string(data)
	all := &parsedTemplates
	all.mu.RLock()
	p, known := all.by[key]
	all.mu.RUnlock()
	if known && p.stands(base) {
		return p.t, nil
	}
	p = parsed{bases: map[string][]byte{}}
	var err error
	p.t, err = template.Parse(name, data, func(of string) ([]byte, error) {
		text, err := base(of)
		p.bases[of] = text
		return text, err
	})
	if err != nil {
		return p.t, err
	}
	all.mu.Lock()
	defer all.mu.Unlock()
	if len(all.by) >= mostTemplates {
		clear(all.by)
	}
	all.by[key] = p
	return p.t, nil
}

// stands reports whether the texts that a template is based on are as they were.
func (p parsed) stands(base func(string) ([]byte, error)) bool {
	for of, before := range p.bases {
		if text, err := base(of); err != nil || !bytes.Equal(text, before) {
			return false
		}
	}
	return true
}
