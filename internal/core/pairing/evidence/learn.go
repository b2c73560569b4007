package evidence

// Lesson counts patterns, to learn weights from. All counts are whole numbers,
// so that neither the order of the records nor the number of cores shows in
// what is learnt.
type Lesson struct {
	Twins     seen                     // pairs that are one human's, told by something else
	Strangers seen                     // pairs of records drawn without looking
	Found     seen                     // candidates, each by its probability, in parts of Whole
	Beside    seen                     // candidates, by the probability that they are two humans'
	Alone     [comparators][most]int64 // open accounts, by the probability that they are nobody's
	Declared  []Declared               // what the last comparators are
	Keyed     [comparators]bool        // a key looks at it: what is left over doesn't agree on it
}

// seen counts pairs by what comparing them found.
type seen struct {
	levels [comparators][most]int64
	// whose names agree and whose addresses don't, by how these are unlike
	unlike [most]int64
}

func (t *seen) join(o *seen) {
	for c := range comparators {
		for level := range most {
			t.levels[c][level] += o.levels[c][level]
		}
	}
	for level := range most {
		t.unlike[level] += o.unlike[level]
	}
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

func (p *Pattern) count(into *seen, n int64, told func(c Comparator) bool) {
	for c := range comparators {
		if c == Login && !p.NamesAgree() || told != nil && !told(c) {
			continue
		}
		level := p.Levels[c]
		if c == Email && level > missing && level < same {
			if p.NamesAgree() {
				into.unlike[countedAs(level)] += n
			}
			level = differ // what they have in common, Login learns
		}
		into.levels[c][level] += n
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

// Account counts an open account by how likely it is nobody's: whether it has what a key
// reads, and is active, tells those that have an owner from those that have none.
func (l *Lesson) Account(f *Face, nobodys float64) {
	n := int64(nobodys * Whole)
	count := func(c Comparator, values int) {
		level := missing
		if values > 0 {
			level = differ
		}
		l.Alone[c][level] += n
	}
	count(Email, len(f.emails))
	count(Phone, len(f.phones))
	count(Number, len(f.numbers))
	switch f.active {
	case 1:
		l.Alone[Status][statusBoth] += n
	case 0:
		l.Alone[Status][statusLoose] += n
	}
}

// Join adds another lesson's counts.
func (l *Lesson) Join(o *Lesson) {
	l.Twins.join(&o.Twins)
	l.Strangers.join(&o.Strangers)
	l.Found.join(&o.Found)
	l.Beside.join(&o.Beside)
	for c := range comparators {
		for level := range most {
			l.Alone[c][level] += o.Alone[c][level]
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

// unknown is how often what a key reads is thought to be missing, before any is seen.
const unknown = 0.5

// Learn turns counts into weights.
func (l *Lesson) Learn() *Weights {
	priors := priorsOf(l.Declared)
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
		twins, strangers, found, beside := of(&l.Twins.levels[c]), of(&l.Strangers.levels[c]), of(&l.Found.levels[c])/Whole, of(&l.Beside.levels[c])/Whole
		part := min(1, mostTwins/max(twins, 1))
		alone := of(&l.Alone[c]) / Whole
		for level := from; level < most; level++ {
			prior := priors[c][level]
			if c == Email && level > differ && level < same {
				continue // see learnUnlike
			}
			if level == missing {
				prior = Odds{unknown, unknown}
			}
			if prior == (Odds{}) || l.Keyed[c] && level == same {
				continue
			}
			odds[c][level].Same = ofOne(prior, float64(l.Twins.levels[c][level])*part, twins*part, float64(l.Found.levels[c][level])/Whole, found)
			others, all := float64(l.Strangers.levels[c][level]), strangers
			switch {
			case c == Login:
				others, all = float64(l.Beside.levels[c][level])/Whole, beside
			case alone > 0 && (c == Status && level != statusLate || l.Keyed[c] && level <= differ):
				// whoever is left over is told from others who are: who is keyed has what a key reads
				others, all = float64(l.Alone[c][level])/Whole, alone
			}
			odds[c][level].Other = ofTwo(prior, others, all)
		}
	}
	l.learnUnlike(&odds)
	return newWeights(odds, l.Declared)
}

// ofOne is how often something is found between the records of one human: of twins, and of
// candidates by their probability, beside the prior.
func ofOne(prior Odds, twins, allTwins, found, all float64) float64 {
	return (prior.Same*priorTwins + twins + found) / (priorTwins + allTwins + all)
}

// ofTwo is how often it is found between the records of two.
func ofTwo(prior Odds, others, all float64) float64 {
	return (prior.Other*priorStrangers + others) / (priorStrangers + all)
}

// countedAs is the level by which addresses that do not agree are counted: what a local part
// in another domain is worth beyond that, Login says.
func countedAs(l Level) Level {
	if l == emailLocal {
		return emailElsewhere
	}
	return l
}

// learnUnlike learns in which way addresses that do not agree are unlike, between the records
// of one human and between namesakes.
func (l *Lesson) learnUnlike(odds *[comparators][most]Odds) {
	sum := func(s *seen) (all float64) {
		for _, n := range s.unlike {
			all += float64(n)
		}
		return all
	}
	twins, found, beside := sum(&l.Twins), sum(&l.Found)/Whole, sum(&l.Beside)/Whole
	part := min(1, mostTwins/max(twins, 1))
	for level := emailDigits; level <= emailElsewhere; level++ {
		prior := priors[Email][level]
		odds[Email][level] = Odds{
			Same:  ofOne(prior, float64(l.Twins.unlike[level])*part, twins*part, float64(l.Found.unlike[level])/Whole, found),
			Other: ofTwo(prior, float64(l.Beside.unlike[level])/Whole, beside),
		}
	}
}
