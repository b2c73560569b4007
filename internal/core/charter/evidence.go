package charter

import (
	"encoding/json"

	"twinning/internal/core/document"
	"twinning/internal/core/pairing/evidence"
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
		f["accept"].Problem("accept: two records are joined without asking from this probability on; expected more than 0.5 and less than 1, such as 0.995")
	case e.Review <= 0 || e.Review > e.Accept:
		f["review"].Problem("review: people are asked from this probability on; expected more than 0 and at most accept (%g)", e.Accept)
	}
	if w, ok := f["weights"]; ok {
		e.Weights = readWeights(w)
	}
	r.Evidence = e
}

// readWeights reads weights in the form in which they are shown: how often a
// level is found between the records of one human and of two, as shares.
func readWeights(n document.Node) *evidence.Weights {
	type odds struct {
		Same  float64 `json:"same"`
		Other float64 `json:"other"`
	}
	all := map[string]map[string]odds{}
	for _, c := range n.Entries() {
		all[c.Key] = map[string]odds{}
		for _, l := range c.Value.Entries() {
			f := l.Value.Declared(Keys)
			if !f["same"].Present() || !f["other"].Present() {
				l.Value.Problem("a weight needs `same:` and `other:`, how often the level is found between the records of one human and of two")
				continue
			}
			all[c.Key][l.Key] = odds{f["same"].Share(), f["other"].Share()}
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
