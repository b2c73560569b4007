package evidence

// Lesson counts patterns, to learn weights from. All counts are whole numbers,
// so that neither the order of the records nor the number of cores shows in
// what is learnt.
type Lesson struct {
	Twins     [comparators][most]int64 // pairs that are one human's, told by something else
	Strangers [comparators][most]int64 // pairs of records drawn without looking
	Found     [comparators][most]int64 // candidates, each by its probability, in parts of Whole
	Beside    [comparators][most]int64 // candidates, by the probability that they are two humans'
	Keyed     [comparators]bool        // a key looks at it: what is left over doesn't agree on it
}

// Whole is a pair in the fractions of Found and Beside.
const Whole = 1 << 10

// Forget takes out what a comparator says.
func (p *Pattern) Forget(c Comparator) {
	p.Levels[c], p.Share[c] = missing, 0
	if c == Login {
		p.Stand = 0
	}
}

// NamesAgree: only then does Login say what the name doesn't.
func (p *Pattern) NamesAgree() bool { return p.Levels[Family] >= part && p.Levels[Given] >= part }

func (p *Pattern) count(into *[comparators][most]int64, n int64, told func(c Comparator) bool) {
	for c := range comparators {
		if c == Login && !p.NamesAgree() || told != nil && !told(c) {
			continue
		}
		into[c][p.Levels[c]] += n
	}
}

// Twin counts a pair of one human's records; told says of which comparators it
// can speak, since what made it a pair is no witness for itself.
func (l *Lesson) Twin(p *Pattern, told func(c Comparator) bool) { p.count(&l.Twins, 1, told) }

// Stranger counts a pair that was drawn without looking.
func (l *Lesson) Stranger(p *Pattern) { p.count(&l.Strangers, 1, nil) }

// Candidate counts a pair of leftovers by its probability.
func (l *Lesson) Candidate(p *Pattern, probability float64) {
	n := int64(probability * Whole)
	p.count(&l.Found, n, nil)
	p.count(&l.Beside, Whole-n, nil)
}

// Join adds another lesson's counts.
func (l *Lesson) Join(o *Lesson) {
	for c := range comparators {
		for level := range most {
			l.Twins[c][level] += o.Twins[c][level]
			l.Strangers[c][level] += o.Strangers[c][level]
			l.Found[c][level] += o.Found[c][level]
			l.Beside[c][level] += o.Beside[c][level]
		}
	}
}

// How many pairs the priors count for, and at most the twins: what is left over
// has habits of its own, which the candidates teach.
const (
	priorTwins     = 40
	priorStrangers = 60
	mostTwins      = 2000
)

// Learn turns counts into weights.
func (l *Lesson) Learn() *Weights {
	odds := priors
	for c := range comparators {
		from := missing + 1
		if l.Keyed[c] {
			from = missing // whether it is there at all says something
		}
		of := func(counts *[most]int64) (total float64) {
			for level := from; level < most; level++ {
				if !l.Keyed[c] || level != same {
					total += float64(counts[level])
				}
			}
			return total
		}
		twins, strangers, found, beside := of(&l.Twins[c]), of(&l.Strangers[c]), of(&l.Found[c])/Whole, of(&l.Beside[c])/Whole
		part := min(1, mostTwins/max(twins, 1))
		for level := Level(1); level < most; level++ {
			if priors[c][level] == (Odds{}) || l.Keyed[c] && level == same {
				continue
			}
			odds[c][level].Same = (priors[c][level].Same*priorTwins + float64(l.Twins[c][level])*part + float64(l.Found[c][level])/Whole) / (priorTwins + twins*part + found)
			others, all := float64(l.Strangers[c][level]), strangers
			if c == Login {
				others, all = float64(l.Beside[c][level])/Whole, beside
			}
			odds[c][level].Other = (priors[c][level].Other*priorStrangers + others) / (priorStrangers + all)
		}
	}
	return newWeights(odds)
}
