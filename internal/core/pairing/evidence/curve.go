package evidence

import (
	"cmp"
	"math"
	"slices"
)

// Curve says what a probability is worth on the lists that a trial was made on: of pairs
// said to be that likely, how many are one human. It never falls.
type Curve struct {
	Points []CurvePoint `json:"points"`
	Pairs  int          `json:"pairs"` // of whom the trial knew who they are
	// Settled are the hesitations that nothing came of: pairs of which they are said are
	// one human as surely as others are.
	Settled []string `json:"settled,omitempty"`
}

// CurvePoint is one place of the curve.
type CurvePoint struct {
	Bits float64 `json:"bits"` // what was said, as odds in bits: 0 is one half
	True float64 `json:"true"` // share of one human
}

// Observed is a pair of which it is known whether it is one human's.
type Observed struct {
	Said   float64 // probability
	Weight float64 // how many pairs it stands for
	One    bool
}

// steepest bounds odds in bits: beyond it a probability is 0 or 1 to all purposes.
const steepest = 40

// OddsBits are the odds of a probability in bits.
func OddsBits(p float64) float64 {
	return min(max(math.Log2(p/(1-p)), -steepest), steepest)
}

// likely is the probability of odds in bits.
func likely(bits float64) float64 { return 1 / (1 + math.Exp2(-bits)) }

// Sizes of the steps that a curve is found in, and how many pairs what was said counts
// for in each: where little was seen, it stands.
const (
	mostSteps = 60
	leastSeen = 20
	saidFor   = 4
)

// Fit finds the curve that never falls and lies closest to what was observed (pooling
// adjacent violators: Ayer and others, 1955).
func Fit(seen []Observed) *Curve {
	seen = slices.Clone(seen)
	slices.SortFunc(seen, func(a, b Observed) int {
		one := func(o Observed) int {
			if o.One {
				return 1
			}
			return 0
		}
		return cmp.Or(cmp.Compare(a.Said, b.Said), cmp.Compare(a.Weight, b.Weight), cmp.Compare(one(a), one(b)))
	})
	type pool struct{ weight, bits, one float64 }
	mean := func(p pool) float64 { return p.one / p.weight }
	var pools []pool
	size := max(leastSeen, (len(seen)+mostSteps-1)/mostSteps)
	for from := 0; from < len(seen); from += size {
		var p pool
		said := 0.0
		for _, o := range seen[from:min(from+size, len(seen))] {
			p.weight += o.Weight
			p.bits += o.Weight * OddsBits(o.Said)
			said += o.Weight * o.Said
			if o.One {
				p.one += o.Weight
			}
		}
		if p.weight == 0 {
			continue
		}
		p.bits /= p.weight
		p.one += saidFor * said / p.weight
		p.weight += saidFor
		for p.bits *= p.weight; len(pools) > 0 && mean(pools[len(pools)-1]) >= mean(p); pools = pools[:len(pools)-1] {
			last := pools[len(pools)-1]
			p.weight, p.bits, p.one = p.weight+last.weight, p.bits+last.bits, p.one+last.one
		}
		pools = append(pools, p)
	}
	c := &Curve{Points: []CurvePoint{}, Pairs: len(seen)}
	for _, p := range pools {
		// rounded, so that it is the same when it comes back from where it is kept
		c.Points = append(c.Points, CurvePoint{math.Round(1e3*p.bits/p.weight) / 1e3, math.Round(1e6*mean(p)) / 1e6})
	}
	return c
}

// At is how likely a pair is that is said to be p likely. Without a curve, p.
func (c *Curve) At(p float64) float64 {
	if c == nil || len(c.Points) == 0 {
		return p
	}
	bits := OddsBits(p)
	i, _ := slices.BinarySearchFunc(c.Points, bits, func(x CurvePoint, b float64) int { return cmp.Compare(x.Bits, b) })
	switch {
	case i == 0: // what is said less is true less
		return p * c.Points[0].True / likely(c.Points[0].Bits)
	case i == len(c.Points):
		return c.Points[i-1].True
	}
	a, b := c.Points[i-1], c.Points[i]
	part := (bits - a.Bits) / (b.Bits - a.Bits)
	return a.True*(1-part) + b.True*part
}

// Before is the least that has to be said for a pair to be p likely.
func (c *Curve) Before(p float64) float64 {
	low, high := -float64(steepest), float64(steepest)
	for range 60 {
		if half := (low + high) / 2; c.At(likely(half)) >= p {
			high = half
		} else {
			low = half
		}
	}
	return likely(high)
}

// Settles reports whether a hesitation is known to be worth nothing.
func (c *Curve) Settles(hesitation string) bool {
	return c != nil && slices.Contains(c.Settled, hesitation)
}

// Between is the 95 % interval of a share of n (Wilson 1927).
func Between(share, n float64) (low, high float64) {
	const z = 1.96
	middle, half := share+z*z/(2*n), z*math.Sqrt(share*(1-share)/n+z*z/(4*n*n))
	return max(0, (middle-half)/(1+z*z/n)), min(1, (middle+half)/(1+z*z/n))
}
