package evidence

import (
	"cmp"
	"maps"
	"slices"

	"twinning/internal/core/pairing/likeness"
)

// Forms are the names that people of these lists are called by elsewhere, each with the
// names that it may stand for: short forms that stand in no table, and names in another
// language. They are learnt from twins that keys and rulings make.
type Forms map[string][]string

// FormLesson counts in what words the names of twins differ.
type FormLesson struct {
	couples map[[2]string]int
	said    [2]map[string]int // by twins, a word in any part of the name
	twins   int
	differ  int // twins whose names differ in one word
}

// NewFormLesson is empty.
func NewFormLesson() *FormLesson {
	return &FormLesson{couples: map[[2]string]int{}, said: [2]map[string]int{{}, {}}}
}

// Twin counts a pair of one human's records, by rows.
func (l *FormLesson) Twin(people, accounts *Reader, p, a int) {
	x, y := people.name(p), accounts.name(a)
	if x.empty() || y.empty() || x.latin != y.latin {
		return
	}
	l.twins++
	left, right := l.unlike(0, &x, &y), l.unlike(1, &y, &x)
	if n := len(left); n != len(right) || n == 0 || n > 2 || n == 2 && (!x.parted(left) || !y.parted(right)) {
		return
	}
	l.differ++
	for i, u := range left {
		if v := right[i]; couplable(u) && couplable(v) && !likeness.Gendered(u.Text, v.Text) && !u.agreesWith(v) {
			l.couples[[2]string{u.Text, v.Text}]++
		}
	}
}

// parted: of two words, one is of the given name and one of the surname.
func (n *name) parted(words []*word) bool {
	in := func(list []word, w *word) bool {
		return slices.ContainsFunc(list, func(x word) bool { return x.key == w.key })
	}
	return in(n.given, words[0]) && in(n.family, words[1])
}

// unlike counts the words of one name, and lists those that the other has not.
func (l *FormLesson) unlike(side int, one, other *name) (list []*word) {
	one.eachWord(func(w *word) {
		l.said[side][w.Text]++
		found := false
		other.eachWord(func(v *word) { found = found || v.key == w.key || v.roots[0] == w.roots[0] })
		if !found {
			list = append(list, w)
		}
	})
	return list
}

func (w *word) agreesWith(v *word) bool { return Level(w.Compare(&v.Word)) >= part }

// couplable: an initial is short for anything, and a word with lost letters is none.
func couplable(w *word) bool {
	return len(w.Text) > 2 && !w.Lost() && !likeness.IsParticle(w.Text)
}

// A form is learnt where so many twins have it, as a share of those who bear the name,
// and so many times more than are when two people of those names are taken for one; but not
// where so many times more people are called so in the authority, where names are in full.
const (
	formTwins    = 3
	formOften    = 0.003
	formSurprise = 5
	formNames    = 2
	mostForms    = 2000
)

// Learn lists the forms, the most frequent ones where there are too many.
func (l *FormLesson) Learn() Forms {
	type form struct {
		couple [2]string
		n      int
	}
	var found []form
	for c, n := range l.couples {
		u, v := l.said[0][c[0]], l.said[1][c[1]]
		byChance := float64(l.differ) * float64(u) * float64(v) / float64(l.twins) / float64(l.twins)
		if l.said[0][c[1]] > formNames*n {
			continue // people here are given it as their name
		}
		if n >= formTwins && float64(n) >= formOften*float64(min(u, v)) && float64(n) >= formSurprise*byChance {
			found = append(found, form{c, n})
		}
	}
	slices.SortFunc(found, func(a, b form) int { return cmp.Or(cmp.Compare(b.n, a.n), slices.Compare(a.couple[:], b.couple[:])) })
	forms := Forms{}
	for _, f := range found[:min(len(found), mostForms)] {
		full, short := f.couple[0], f.couple[1]
		if l.said[0][full]+l.said[1][full] < l.said[0][short]+l.said[1][short] {
			full, short = short, full
		}
		if !slices.Contains(forms[short], full) && !slices.Contains(forms[full], short) {
			forms[short] = append(forms[short], full)
		}
	}
	for _, short := range slices.Sorted(maps.Keys(forms)) {
		slices.Sort(forms[short])
	}
	return forms
}
