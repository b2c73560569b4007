package pairing

import "twinning/internal/core/pairing/evidence"

// Trial is what came of having evidence find twins that are known: how far its
// probabilities are true on these lists, and what each threshold would cost.
//
// Twins that keys, rulings and confirmed bonds make are held back in parts, never the same
// that teach the weights. What their keys read is hidden in the account, with every
// comparator that reads it too, so that it is no witness for the twin; against other
// accounts the person is known by it, as everybody is who is left over. Of some, one record
// is taken away, as many as there are people without account among those whom no key
// pairs, so that finding nobody is right.
// Whoever is left over takes part beside them, as rivals.
//
// What is left over is harder than what is keyed: every observation counts as much more as
// pairs of its kind are more frequent among those left over.
type Trial struct {
	Known  int     `json:"known"` // twins that could be held back
	Held   int     `json:"held"`  // that were
	Lost   int     `json:"lost"`  // of whom one record was taken away
	Parts  int     `json:"parts"`
	Open   int     `json:"open"` // people whom nothing but evidence can pair, now
	Accept float64 `json:"accept"`
	Review float64 `json:"review"`
	// Careful is the lowest of the thresholds from which on no more than one in ten thousand of
	// all twins is expected to be wrong; 0: there is none.
	Careful     float64           `json:"careful,omitempty"`
	Curve       *evidence.Curve   `json:"curve"`
	Weights     *evidence.Weights `json:"-"` // those that all known twins teach, with the curve
	Bands       []TrialBand       `json:"bands"`
	Thresholds  []TrialThreshold  `json:"thresholds"`
	Kinds       []TrialKind       `json:"kinds"`
	Levels      []TrialLevel      `json:"levels"`
	Hesitations []TrialHesitation `json:"hesitations"`
}

// TrialBand is what was said of pairs, and what is true of them; shares of 1.
type TrialBand struct {
	From  float64 `json:"from"`
	To    float64 `json:"to"`
	Said  float64 `json:"said"` // weighed by kind, as True
	True  float64 `json:"true"`
	Low   float64 `json:"low"` // of True, at 95 % (Wilson 1927)
	High  float64 `json:"high"`
	Raw   float64 `json:"raw"` // share of one human as the pairs came, without weighing kinds
	Pairs int     `json:"pairs"`
}

// TrialThreshold is what joining from a probability on would bring.
type TrialThreshold struct {
	Accept       float64 `json:"accept"`
	Found        float64 `json:"found"`        // share of the twins held back that would be joined with each other
	Joined       int     `json:"joined"`       // pairs in the trial
	Wrong        int     `json:"wrong"`        // of these
	WouldJoin    int     `json:"wouldJoin"`    // pairs of those left over now
	WouldBeWrong float64 `json:"wouldBeWrong"` // expected of these
	WouldAsk     int     `json:"wouldAsk"`     // pairs left over now, from review up to here
}

// TrialKind are pairs that agree in the same way.
type TrialKind struct {
	Kind     string         `json:"kind"`
	Pairs    int            `json:"pairs"` // likely ones in the trial
	One      int            `json:"one"`   // of one human
	Said     float64        `json:"said"`  // how many of them were said to be, as a share
	LeftOver int            `json:"leftOver"`
	Examples []TrialExample `json:"examples"`
}

// TrialExample is a pair that was said to be likely and is not one human's, or the other
// way round.
type TrialExample struct {
	Person       string  `json:"person"`
	Account      string  `json:"account"`
	PersonLabel  string  `json:"personLabel"`
	AccountLabel string  `json:"accountLabel"`
	Said         float64 `json:"said"`
	One          bool    `json:"one"`
	Words        string  `json:"words"` // what evidence said
}

// TrialLevel is whether a level of agreement is worth what it says.
type TrialLevel struct {
	Comparator string  `json:"comparator"`
	Level      string  `json:"level"`
	Bits       float64 `json:"bits"` // what it says on average
	Pairs      int     `json:"pairs"`
	Said       float64 `json:"said"` // of the likely pairs that have it
	True       float64 `json:"true"`
}

// TrialHesitation is what came of asking about pairs that are probable by the numbers.
type TrialHesitation struct {
	Kind     string `json:"kind"`
	Pairs    int    `json:"pairs"`
	One      int    `json:"one"`
	Settled  bool   `json:"settled"`  // they are as sure as what is joined unasked
	LeftOver int    `json:"leftOver"` // pairs that are asked about for it now
}
