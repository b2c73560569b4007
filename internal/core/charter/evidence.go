package charter

import (
	"encoding/json"
	"slices"

	"twinning/internal/core/document"
	"twinning/internal/core/pairing/evidence"
	"twinning/internal/core/record"
)

func (r *reader) readEvidence(n document.Node) {
	e := &Evidence{Accept: DefaultAccept, Review: DefaultReview}
	f := n.Declared(Keys)
	if v, ok := f["accept"]; ok {
		e.Accept = v.Share()
	}
	if v, ok := f["review"]; ok {
		e.Review = v.Share()
	}
	switch {
	case e.Accept <= 0.5 || e.Accept >= 1:
		f["accept"].Problem("accept: two records are joined without asking from this probability on; expected more than 0.5 and less than 1, such as 0.95")
	case e.Review <= 0 || e.Review > e.Accept:
		f["review"].Problem("review: people are asked from this probability on; expected more than 0 and at most accept (%g)", e.Accept)
	}
	for _, a := range f["attributes"].Entries() {
		r.readDeclared(e, a)
	}
	if w, ok := f["weights"]; ok {
		e.Weights = readWeights(w, e.Declared)
	}
	r.Evidence = e
}

// readDeclared reads one attribute that evidence is to look at, and how it is compared.
func (r *reader) readDeclared(e *Evidence, entry document.Entry) {
	d := evidence.Declared{Attribute: entry.Key, As: entry.Value.OneOf(evidence.Comparisons...)}
	v := r.compiler.vocabulary
	known := slices.Concat(record.CanonicalNames(), slices.DeleteFunc(slices.Clone(v.Person), func(n string) bool { return !slices.Contains(v.Account, n) }))
	switch why := evidence.CheckDeclared(d); {
	case why != "":
		entry.Value.Problem("%s", why)
	case !slices.Contains(known, d.Attribute):
		entry.Value.Problem("%q is no attribute that both sides have%s; the shapes of both systems have to name it", d.Attribute, document.Suggest(d.Attribute, known))
	case len(e.Declared) == evidence.MostDeclared:
		entry.Value.Problem("evidence looks at %d further attributes at most", evidence.MostDeclared)
	default:
		e.Declared = append(e.Declared, d)
	}
}

// readWeights reads weights in the form in which they are shown: how often a
// level is found between the records of one human and of two, as shares.
func readWeights(n document.Node, list []evidence.Declared) *evidence.Weights {
	type odds struct {
		Same  float64 `json:"same"`
		Other float64 `json:"other"`
	}
	all := map[string]any{}
	if len(list) > 0 {
		all["declared"] = list
	}
	for _, c := range n.Entries() {
		levels := map[string]odds{}
		all[c.Key] = levels
		for _, l := range c.Value.Entries() {
			f := l.Value.Declared(Keys)
			if !f["same"].Present() || !f["other"].Present() {
				l.Value.Problem("a weight needs `same:` and `other:`, how often the level is found between the records of one human and of two")
				continue
			}
			levels[l.Key] = odds{f["same"].Share(), f["other"].Share()}
		}
	}
	src, err := json.Marshal(all)
	w := &evidence.Weights{}
	if err == nil {
		err = json.Unmarshal(src, w)
	}
	if err != nil {
		n.Problem("%v", err)
	}
	return w
}
