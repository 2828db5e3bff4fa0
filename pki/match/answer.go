package match

import (
	"strings"

	"ironseal/pki/advice"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/finding"
	"ironseal/pki/key"
	"ironseal/pki/path"
	"ironseal/pki/receiver"
	"ironseal/pki/request"
	"ironseal/pki/san"
)

// CheckAnswer judges a certificate that an outside authority returned for a
// request of ours: whether it is for this key and this subject, has what was asked
// for and no more, is in force, and chains to one of the anchors of a question, which
// asks for revocations too where someone can tell. others came with it or are known; a
// root is not trusted for being among them.
func CheckAnswer(r *request.Request, leaf *cert.Certificate, others []*cert.Certificate,
	q path.Question) finding.List {
	var out finding.List
	add := func(code finding.Code, format string, args ...any) {
		out = append(out, finding.New(code, format, args...))
	}
	if !key.Same(r.Key, leaf.Key) {
		return finding.List{finding.New(finding.AnswerOtherKey,
			"%s is a certificate for another key than the request's.", leaf.Title())}
	}
	if less, ok := lessOf(leaf.Subject, r.Subject); !ok {
		add(finding.AnswerSubject, "It is for %s; %s was asked for.", orEmpty(leaf.Subject.String()),
			orEmpty(r.Subject.String()))
	} else if less != "" {
		add(finding.AnswerFewer, "Its subject leaves out %s.", less)
	}
	if leaf.IsAuthority() && !r.AsksAuthority() {
		add(finding.AnswerMore, "It makes an authority of the request's key, which did not ask to be one.")
	}
	wanted := append(request.Hosts(r.Subject), r.Names...)
	if missing := beyond(r.Names, leaf.Names); len(missing) > 0 {
		add(finding.AnswerLacks, "It lacks what was asked for: %s.", strings.Join(missing, ", "))
	}
	if extra := beyond(leaf.Names, wanted); len(extra) > 0 {
		add(finding.AnswerMore, "It has names that were not asked for: %s.", strings.Join(extra, ", "))
	}
	_, extended := r.Usage()
	if lacking := receiver.Without(ext.UsageNames(extended), ext.UsageNames(leaf.Extended)...); leaf.HasExtended &&
		len(lacking) > 0 {
		add(finding.AnswerLacks, "It lacks the usage %s.", strings.Join(lacking, ", "))
	}
	if more := receiver.Without(ext.UsageNames(leaf.Extended), ext.UsageNames(extended)...); len(extended) > 0 &&
		len(more) > 0 {
		add(finding.AnswerMore, "It has usages that were not asked for: %s.", strings.Join(more, ", "))
	}
	v := path.Verify(leaf, others, q)
	for _, f := range v.Reasons() {
		switch f.Code {
		case finding.MissingIssuer:
			f = finding.New(finding.AnswerOpen, "%s", f.Message)
		case finding.UnknownAnchor:
			f = f.WithNext(advice.To("if you trust that root, compare its check code with its keeper and give it",
				advice.GiveAnchor))
		}
		out = append(out, f)
	}
	return out.Ranked()
}

// lessOf reports whether a subject has nothing but what was asked for, and names the
// fields that it leaves out: outside authorities often keep the common name alone.
func lessOf(have, asked dn.Name) (less string, ok bool) {
	left := map[string]int{}
	var order []string
	for a := range asked.Attributes() {
		k := a.Short() + "=" + strings.ToLower(strings.TrimSpace(a.Text))
		if left[k]++; left[k] == 1 {
			order = append(order, k)
		}
	}
	for a := range have.Attributes() {
		k := a.Short() + "=" + strings.ToLower(strings.TrimSpace(a.Text))
		if left[k]--; left[k] < 0 {
			return "", false
		}
	}
	var out []string
	for _, k := range order {
		if left[k] > 0 {
			field, _, _ := strings.Cut(k, "=")
			out = append(out, field)
		}
	}
	return strings.Join(out, ", "), true
}

// beyond lists the names of a list that another lacks.
func beyond(list, other []san.Name) []string {
	has := map[string]bool{}
	for _, n := range other {
		has[n.Key()] = true
	}
	var out []string
	for _, n := range list {
		if !has[n.Key()] {
			out = append(out, n.String())
		}
	}
	return out
}

func orEmpty(s string) string {
	if s == "" {
		return "an empty subject"
	}
	return s
}
