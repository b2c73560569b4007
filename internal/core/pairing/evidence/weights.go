package evidence

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
)

// Odds of a level: how often it is found between the records of one human, and
// between those of two.
type Odds struct{ Same, Other float64 }

// Weights say what every level of every comparator is worth.
type Weights struct {
	odds  [comparators][most]Odds
	bits  [comparators][most]float64 // by the level's average share
	logs  [comparators][most]float64 // of Same alone, where the value's own share counts
	more  [comparators][most]float64 // share of the strangers who are as much alike, whatever the value
	forms Forms
	curve *Curve

	declared []Declared // what the last comparators are
}

// Curve is what a trial found probabilities to be worth; nil: none was made.
func (w *Weights) Curve() *Curve { return w.curve }

// WithCurve are the weights with what a trial found.
func (w *Weights) WithCurve(c *Curve) *Weights {
	x := *w
	x.curve = c
	return &x
}

// Forms are the names by which people of the lists are called elsewhere.
func (w *Weights) Forms() Forms { return w.forms }

// Declared are the attributes beside the usual ones that the weights know.
func (w *Weights) Declared() []Declared { return w.declared }

// WithForms are the weights with the forms that were learnt beside them.
func (w *Weights) WithForms(f Forms) *Weights {
	x := *w
	x.forms = f
	return &x
}

// priors are what is taken for granted before a list has taught better: shares
// among the pairs where the comparator speaks. Other is left at 0 where the
// value's own share says it.
var priors = func() (w [comparators][most]Odds) {
	set := func(c Comparator, odds map[Level]Odds) {
		for l, o := range odds {
			w[c][l] = o
		}
	}
	set(Family, map[Level]Odds{differ: {0.015, 0.985}, faint: {0.002, 0.01}, begun: {0.002, 0.002}, part: {0.04, 1e-4}, short: {0.005, 2e-4}, variant: {0.03, 1e-4}, near: {0.02, 2e-4}, same: {0.893, 0.005}})
	set(Given, map[Level]Odds{differ: {0.006, 0.95}, faint: {0.001, 0.001}, begun: {0.008, 0.008}, part: {0.03, 0.01}, short: {0.03, 0.0015}, variant: {0.03, 0.001}, near: {0.01, 0.001}, same: {0.9, 0.02}})
	set(Middle, map[Level]Odds{differ: {0.03, 0.93}, faint: {0.001, 0.001}, begun: {0.002, 0.004}, part: {0.2, 0.04}, short: {0.01, 0.001}, variant: {0.03, 0.001}, near: {0.02, 0.001}, same: {0.72, 0.02}})
	set(Login, map[Level]Odds{loginOther: {0.35, 0.50}, loginDigits: {0.08, 0.22}, loginMade: {0.45, 0.25}, loginCounted: {0.07, 0.02}, loginHandle: {0.05, 0.0001}})
	set(Email, map[Level]Odds{differ: {0.4, 0.9999}, emailDigits: {0.02, 0.3}, emailHouse: {0.1, 0.3}, emailElsewhere: {0.88, 0.4}, same: {0.6, 1e-5}})
	set(Phone, map[Level]Odds{differ: {0.15, 0.999}, part: {0.1, 5e-4}, variant: {0.1, 1e-4}, same: {0.65, 2e-4}})
	set(Number, map[Level]Odds{differ: {0.02, 0.998}, faint: {0.005, 1e-3}, part: {0.01, 5e-4}, variant: {0.1, 1e-4}, same: {0.865, 1e-5}})
	set(Day, map[Level]Odds{differ: {0.25, 0.95}, faint: {0.1, 0.03}, part: {0.25, 0.018}, same: {0.4, 0.002}})
	set(Department, map[Level]Odds{differ: {0.2, 0.85}, part: {0.1, 0.05}, same: {0.7, 0.10}})
	set(Title, map[Level]Odds{differ: {0.3, 0.75}, part: {0.1, 0.1}, same: {0.6, 0.15}})
	set(Location, map[Level]Odds{differ: {0.15, 0.7}, part: {0.05, 0.05}, same: {0.8, 0.25}})
	set(Status, map[Level]Odds{statusLoose: {0.03, 0.12}, statusLate: {0.02, 0.05}, statusBoth: {0.95, 0.83}})
	return w
}()

// limits of what one comparator may be worth, in bits: no single thing that
// people share at home, and none that is merely unlike, decides alone.
var limits = [declared]limit{
	Family: {-8, 18}, Given: {-9, 15}, Middle: {-6, 8}, Login: {-2, 14}, Email: {-1, 15}, Phone: {-4, 9}, Number: {-8, 16},
	Day: {-3, 11}, Department: {-3.5, 4}, Title: {-3, 4}, Location: {-3, 3}, Status: {-5, 1},
}

// leastUnlike is what it may be worth at least in which way addresses that do not agree are
// unlike. It never speaks for a pair: where two houses have domains of their own, namesakes
// are elsewhere as well.
const leastUnlike = -6

// Namesakes: one name, and addresses of one domain that differ by their digits, in lists
// where that speaks against one human. Where two systems give out digits of their own, it
// does not.
func (w *Weights) Namesakes(p *Pattern) bool {
	return p.Levels[Email] == emailDigits && w.bits[Email][emailDigits] <= namesakes
}

// namesakes is what other digits in an address have to be worth to be asked about.
const namesakes = -2

// mostOfMissing is what it may be worth that nothing is given which a key reads.
const mostOfMissing = 2

type limit struct{ least, most float64 }

// limitOf is what a comparator may be worth.
func (w *Weights) limitOf(c Comparator) limit {
	if c < declared {
		return limits[c]
	}
	if i := int(c - declared); i < len(w.declared) {
		return declaredLimits[w.declared[i].As]
	}
	return limit{}
}

// byShare: the comparator's agreement is worth what the value is.
func byShare(c Comparator, l Level) bool {
	switch c {
	case Family, Given, Middle, Phone:
		return l >= part
	case Number:
		return l >= variant
	case Login:
		return l == loginHandle
	case Email:
		return l == same
	}
	return false
}

// newWeights makes the odds ready for use: what agrees more is never worth less.
func newWeights(odds [comparators][most]Odds, list []Declared) *Weights {
	w := &Weights{odds: odds, declared: list}
	for c := range comparators {
		limit := w.limitOf(c)
		worth := math.Inf(-1)
		logs := math.Inf(-1)
		for l := Level(1); l < most; l++ {
			o := odds[c][l]
			if c == Status {
				worth = math.Inf(-1) // its levels are no more and less
			}
			if o.Same > 0 && o.Other > 0 {
				worth = max(worth, min(max(math.Log2(o.Same/o.Other), limit.least), limit.most))
			}
			w.bits[c][l] = max(worth, limit.least)
			if l == differ && c != Login && c != Status {
				w.bits[c][l] = min(w.bits[c][l], 0)
				worth = min(worth, 0)
			}
			if o.Same > 0 && byShare(c, l) {
				logs = max(logs, math.Log2(o.Same))
			}
			w.logs[c][l] = logs
		}
		if c == Email {
			for l := emailDigits; l <= emailElsewhere; l++ {
				o := odds[c][l]
				w.bits[c][l] = w.bits[c][differ] + min(max(math.Log2(o.Same/o.Other), leastUnlike), 0)
			}
			w.bits[c][emailLocal] = 0
		}
		if o := odds[c][missing]; o.Same > 0 && o.Other > 0 {
			w.bits[c][missing] = min(max(math.Log2(o.Same/o.Other), -mostOfMissing), mostOfMissing)
		}
		for l := near; l >= part; l-- {
			w.more[c][l] = max(odds[c][l].Other, w.more[c][l+1])
		}
	}
	return w
}

type level struct {
	Same  float64 `json:"same"`
	Other float64 `json:"other"`
	Bits  float64 `json:"bits"`
}

// MarshalJSON tells the odds of every level, with the bits that they come to
// where the value's own share doesn't say more.
func (w *Weights) MarshalJSON() ([]byte, error) {
	out := map[string]any{}
	if len(w.forms) > 0 {
		out[formsKey] = w.forms
	}
	if w.curve != nil {
		out[curveKey] = w.curve
	}
	if len(w.declared) > 0 {
		out[declaredKey] = w.declared
	}
	for c := range declared + Comparator(len(w.declared)) {
		levels := map[string]level{}
		for l := missing; l < most; l++ {
			if o := w.odds[c][l]; o != (Odds{}) {
				levels[levelNames[c][l]] = level{o.Same, o.Other, math.Round(100*w.bits[c][l]) / 100}
			}
		}
		out[w.name(c)] = levels
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads weights back; levels that are not told keep their priors.
func (w *Weights) UnmarshalJSON(src []byte) error {
	var in map[string]json.RawMessage
	if err := json.Unmarshal(src, &in); err != nil {
		return err
	}
	var forms Forms
	var curve *Curve
	var list []Declared
	for key, into := range map[string]any{formsKey: &forms, curveKey: &curve, declaredKey: &list} {
		if raw, ok := in[key]; ok {
			if err := json.Unmarshal(raw, into); err != nil {
				return fmt.Errorf("weights: %s: %w", key, err)
			}
			delete(in, key)
		}
	}
	if len(list) > MostDeclared {
		return fmt.Errorf("weights: %d attributes are declared, and %d may be", len(list), MostDeclared)
	}
	odds := priorsOf(list)
	for name, raw := range in {
		var levels map[string]level
		if err := json.Unmarshal(raw, &levels); err != nil {
			return fmt.Errorf("weights: %s: %w", name, err)
		}
		c := slot(name, list)
		if c < 0 {
			return fmt.Errorf("weights: there is no comparator %q; expected one of %s", name, strings.Join(comparatorNames[:declared], ", "))
		}
		for word, o := range levels {
			l := slices.Index(levelNames[c][:], word)
			if l < 0 {
				return fmt.Errorf("weights: %s has no level %q; expected one of %s", name, word, strings.Join(levelNames[c][:], ", "))
			}
			if o.Same <= 0 || o.Same > 1 || o.Other <= 0 || o.Other > 1 {
				return fmt.Errorf("weights: %s, %s: expected shares above 0 and up to 1, got %g and %g", name, word, o.Same, o.Other)
			}
			odds[c][l] = Odds{o.Same, o.Other}
		}
		for told, l := (Odds{}), same; l > differ; l-- { // what agrees less is worth no more than what was told of more
			o := &odds[c][l]
			if _, is := levels[levelNames[c][l]]; is {
				told = *o
			} else if told != (Odds{}) && *o != (Odds{}) && o.Same*told.Other > told.Same*o.Other {
				*o = told
			}
		}
	}
	*w = *newWeights(odds, list).WithForms(forms).WithCurve(curve)
	return nil
}

// Where the forms and the curve stand among the comparators.
const (
	formsKey    = "forms"
	declaredKey = "declared"
	curveKey    = "trial"
)

// Version names the weights by what they are.
func (w *Weights) Version() string {
	src, err := w.MarshalJSON()
	if err != nil {
		panic(err) // our own plain values
	}
	sum := sha256.Sum256(src)
	return hex.EncodeToString(sum[:4])
}

// Kept are the weights as they come back from where they are kept.
func (w *Weights) Kept() *Weights {
	src, err := w.MarshalJSON()
	back := &Weights{}
	if err == nil {
		err = back.UnmarshalJSON(src)
	}
	if err != nil {
		panic(err) // our own plain values
	}
	return back
}

// Priors are the weights of a list that is too short to teach any.
func Priors() *Weights { return newWeights(priors, nil) }

// worth of one comparator's level in bits.
func (w *Weights) worth(p *Pattern, c Comparator) float64 {
	l := p.Levels[c]
	if share := float64(p.Share[c]); share > 0 && byShare(c, l) {
		if l < same && c != Login {
			share += w.more[c][l]
		}
		return min(max(w.logs[c][l]-math.Log2(share), 0, w.bits[c][missing]), w.limitOf(c).most)
	}
	return w.bits[c][l]
}

// standing: how often an account's login is made of its owner's name, and what
// that may be worth.
const (
	standOften = 0.5
	standMost  = 14
)

// Names is what the names are worth, with the logins that come from them.
func (w *Weights) Names(p *Pattern) float64 {
	family, given := w.worth(p, Family), w.worth(p, Given)
	known := family + given + w.worth(p, Middle)
	if p.Levels[Family] >= part && p.Levels[Given] >= part {
		return known + w.worth(p, Login)
	}
	if p.Stand > 0 {
		stand := min(max(math.Log2(standOften/float64(p.Stand)), 0), standMost)
		return max(known, stand+min(family, 0)+min(given, 0))
	}
	return known
}

// Bits is what the whole pattern is worth: the logarithm of how much more often
// it is found between the records of one human.
func (w *Weights) Bits(p *Pattern) float64 {
	sum := w.Names(p)
	for c := Email; c < comparators; c++ {
		sum += w.worth(p, c)
	}
	return sum
}
