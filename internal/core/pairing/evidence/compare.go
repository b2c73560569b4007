package evidence

import (
	"twinning/internal/core/pairing/likeness"
)

// Compare finds how two prepared records agree. It gives the same whichever of
// the two comes first, but for Status.
func Compare(person, account *Face) (p Pattern) {
	p.names(&person.name, &account.name)
	if p.Levels[Family] >= part && p.Levels[Given] >= part && person.name.full == account.name.full {
		// names of one country go together: the whole name may be more common
		// than its parts say
		p.Share[Given] = max(p.Share[Given], min(float32(person.name.share)/p.Share[Family], 1))
	}
	p.emails(person, account)
	if p.Levels[Email] < same {
		p.logins(person, account)
	}
	if p.Levels[Given] < part && p.Levels[Given] != missing && p.Levels[Family] >= part && (person.calls(account) || account.calls(person)) {
		// what one is called by stands in what the other signs in with, beside the
		// surname: it is known what they are called elsewhere
		p.Levels[Given], p.Share[Given] = missing, 0
	}
	p.phones(person, account)
	p.numbers(person, account)
	p.Levels[Day] = days(person.day, account.day)
	p.Levels[Department] = texts(&person.department, &account.department)
	p.Levels[Title] = texts(&person.title, &account.title)
	p.Levels[Location] = texts(&person.location, &account.location)
	for i := range min(len(person.own), len(account.own)) {
		p.Levels[int(declared)+i] = person.own[i].compare(&account.own[i])
	}
	switch {
	case person.active < 0 || account.active < 0:
	case person.active == account.active:
		p.Levels[Status] = statusBoth
	case person.active == 1:
		p.Levels[Status] = statusLoose
	default:
		p.Levels[Status] = statusLate
	}
	return p
}

// Rehired: the name agrees, the number is another, and somebody who is here has
// an account that is suspended.
func (p *Pattern) Rehired() bool {
	return p.NamesAgree() && p.Levels[Number] == differ && p.Levels[Status] == statusLoose
}

// Regardless is the pattern without number and status.
func (p Pattern) Regardless() *Pattern {
	p.Levels[Number], p.Levels[Status] = missing, missing
	return &p
}

// WithinOneList compares two records of one side: each has a number, addresses
// and a life of its own there, whoever it is, so only what agrees is told.
func WithinOneList(a, b *Face) Pattern {
	p := Compare(a, b)
	p.Levels[Status] = missing
	if p.Levels[Email] < same {
		p.Levels[Email] = missing
	}
	if p.Levels[Number] < variant {
		p.Levels[Number] = missing
	}
	return p
}

func (p *Pattern) emails(a, b *Face) {
	if len(a.emails) == 0 || len(b.emails) == 0 {
		return
	}
	level := emailElsewhere
	for i := range a.emails {
		for j := range b.emails {
			x, y := &a.emails[i], &b.emails[j]
			switch {
			case x.key == y.key:
				// of several that agree, the one that fewest carry says most
				if share := float32(x.share); level < same || share < p.Share[Email] {
					p.Share[Email] = share
				}
				level = same
			case x.domain != y.domain || level == same:
			case x.letters == y.letters && x.text != y.text:
				level = emailDigits
			case level == emailElsewhere:
				level = emailHouse
			}
		}
	}
	if level < same && !p.NamesAgree() {
		level = differ
	}
	p.Levels[Email] = level
}

// SharedAddress: an address agrees that others carry too, and neither name nor
// login say that the two are one.
func (p *Pattern) SharedAddress() bool {
	return p.Levels[Email] == same && p.Share[Email] > 0 && p.Levels[Family] < part && p.Levels[Given] < part && p.Stand == 0
}

// logins compares logins and local parts as sets: the best agreement counts.
func (p *Pattern) logins(a, b *Face) {
	if len(a.locals) > 0 && len(b.locals) > 0 {
		p.Levels[Login] = loginOther
	}
	stand := 1.0
	for i := range a.locals {
		x := &a.locals[i]
		for j := range b.locals {
			y := &b.locals[j]
			if x.key != y.key {
				continue
			}
			level := loginDigits
			switch made := x.made || y.made; {
			case x.text == y.text && !made:
				level = loginHandle
				p.Share[Login] = float32(x.share)
			case x.text == y.text && x.digits >= tellingDigits:
				level = loginCounted
			case x.text == y.text:
				level = loginMade
			}
			p.Levels[Login] = max(p.Levels[Login], level)
			if !x.made || !y.made { // else either has it from a name of its own
				stand = min(stand, x.share)
			}
			if x.text == y.text && (p.Levels[Email] == differ || p.Levels[Email] == emailElsewhere) {
				p.Levels[Email] = emailLocal
			}
		}
	}
	if p.Levels[Login] != loginHandle {
		p.Share[Login] = 0
	}
	if p.Levels[Family] >= part && p.Levels[Given] >= part {
		return
	}
	stand = min(stand, standing(a, b), standing(b, a))
	if stand < 1 {
		p.Stand = float32(stand)
	}
}

// calls reports whether a login or local part of the other is made of this record's
// given and family name in full.
func (f *Face) calls(other *Face) bool {
	for i := range other.locals {
		for j := range f.logins {
			if m := &f.logins[j]; m.full && m.key == other.locals[i].key {
				return true
			}
		}
	}
	return false
}

// tellingDigits behind a login are more than the count of namesakes.
const tellingDigits = 3

// standing is how common a name is that gives the other record's login. A login that the
// other's own name gives says no more than the names do.
func standing(named, other *Face) float64 {
	share := 1.0
	for i := range other.locals {
		if other.locals[i].made {
			continue
		}
		for j := range named.logins {
			if named.logins[j].key == other.locals[i].key {
				share = min(share, max(named.logins[j].share, other.locals[i].share))
			}
		}
	}
	return share
}

func (p *Pattern) phones(a, b *Face) {
	for i := range a.phones {
		for j := range b.phones {
			x, y := &a.phones[i], &b.phones[j]
			level := Level(x.Compare(&y.Line))
			if level <= p.Levels[Phone] {
				continue
			}
			p.Levels[Phone] = level
			switch {
			case level == part:
				p.Share[Phone] = float32(max(x.ends, y.ends))
			case level > part:
				p.Share[Phone] = float32(max(x.share, y.share))
			}
		}
	}
}

func (p *Pattern) numbers(a, b *Face) {
	for i := range a.numbers {
		for j := range b.numbers {
			x, y := &a.numbers[i], &b.numbers[j]
			level := Level(x.Compare(&y.Number))
			if level > p.Levels[Number] {
				p.Levels[Number] = level
				if level >= variant {
					p.Share[Number] = float32(x.share)
				}
			}
		}
	}
}

func days(a, b int32) Level {
	if a == noDay || b == noDay {
		return missing
	}
	switch apart := max(a-b, b-a); {
	case apart == 0:
		return same
	case apart <= likeness.Month:
		return part
	case apart <= likeness.Season:
		return faint
	}
	return differ
}

func texts(a, b *text) Level {
	if a.all == 0 || b.all == 0 {
		return missing
	}
	if a.all == b.all {
		return same
	}
	for _, x := range a.words {
		for _, y := range b.words {
			if x == y {
				return part
			}
		}
	}
	return differ
}
