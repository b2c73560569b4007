package pairing

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
)

// A copy of somebody for tests or training, a service's or an administrator's account
// carries the human's name, and says in a word that it is not the human's own. By
// evidence alone it is never joined: whoever knows is asked.

// forTests are said of accounts that copy a human, wherever they are said.
var forTests = wordsOf(`test tests testing tester testuser tst dummy demo sandbox training formacion capacitacion prueba pruebas formation essai essais schulung
	schulungen testkonto ubung egitim deneme szkolenie szkolenia testowe testowy treinamento treino teste testes formacao formazione prova opleiding utbildning ovning
	opplaering opplaring koulutus testi koolitus apmacibas mokymai skoleni skolenie obuka testni kepzes oktatas teszt formare oiliuint daotao nghiem dokimi ekpaideusi tadrib`)

// forWork are said of accounts of services, of several, or of administrators; they are
// trades as well, so that a department or a title does not say it.
var forWork = wordsOf(`svc service services servicio servicios servico dienst admin adm administrator administrador shared generic generico compartido gemeinsam partage
	funktionskonto sammelkonto kiosk noreply`)

func wordsOf(list string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(list) {
		m[w] = true
	}
	return m
}

// saying are the attributes in which a record says what it is.
var saying = []string{"displayName", "givenName", "familyName", "userName", "email", "userType", "department", "title"}

// tokens are the words of a cell, folded.
func tokens(cell string) []string {
	return strings.FieldsFunc(record.Fold(cell), func(r rune) bool { return !unicode.IsLetter(r) })
}

// marks are the words by which records say that they are no human's own: those of the
// usual languages, and those that the lists show to be such.
type marks map[string]bool

// says finds a word that one record says of itself and the other does not, and where.
func (m marks) says(one *record.Roster, i int, other *record.Roster, j int) (word, attribute string) {
	for _, name := range saying {
		cell := one.Column(name).Cell(i)
		if cell == "" {
			continue
		}
		trade := name == "department" || name == "title"
		if trade && other.Column(name).Cell(j) == "" {
			continue // there is nothing that it could differ from
		}
		if name == "email" {
			cell, _, _ = strings.Cut(cell, "@")
		}
		for _, w := range tokens(cell) {
			if (forTests[w] || m[w] || !trade && forWork[w]) && !saysToo(other, j, w) {
				return w, name
			}
		}
	}
	for _, name := range numbered {
		if n := one.Column(name).Cell(i); oneFigure(n) && !bearsNumber(other, j, n) {
			return n, name
		}
	}
	return "", ""
}

// numbered are the attributes that hold the number of a human.
var numbered = []string{"employeeNumber", "externalId"}

func bearsNumber(r *record.Roster, i int, n string) bool {
	for _, name := range numbered {
		if r.Column(name).Cell(i) == n {
			return true
		}
	}
	return false
}

// saysToo: the other record says the word as well, so that it tells nothing apart.
func saysToo(r *record.Roster, i int, word string) bool {
	for _, name := range saying {
		for _, w := range tokens(r.Column(name).Cell(i)) {
			if w == word {
				return true
			}
		}
	}
	return false
}

// copies notes of every pair by what one of the two looks like a copy.
func (w *weigher) copies() {
	if !w.in.Evidence.Asks { // who is only asked about is told by the words that everybody knows
		w.shown = w.shownMarks()
	}
	rosters, rows := [2]*record.Roster{w.in.People, w.in.Accounts}, [2][]record.Row{w.people, w.accounts}
	var wanted, marked [2][]bool
	for side := range wanted {
		wanted[side], marked[side] = make([]bool, len(rows[side])), make([]bool, len(rows[side]))
	}
	likely := -float64(farFromLikely) - math.Log2(w.Prior)
	for i := range w.pairs {
		if x := &w.pairs[i]; x.bits > likely {
			wanted[0][x.Person], wanted[1][x.Account] = true, true
		}
	}
	for side, r := range rosters {
		w.inChunks(len(rows[side]), func(from, to int) {
			for i := from; i < to; i++ {
				marked[side][i] = wanted[side][i] && w.shown.carried(r, int(rows[side][i]))
			}
		})
	}
	w.inChunks(len(w.pairs), func(from, to int) {
		for i := from; i < to; i++ {
			if x := &w.pairs[i]; x.bits > likely && (marked[0][x.Person] || marked[1][x.Account]) {
				x.copy = w.shown.copied(w.in.People, int(w.people[x.Person]), w.in.Accounts, int(w.accounts[x.Account]))
			}
		}
	})
}

// farFromLikely are the odds, in bits, below which nobody asks what a record is.
const farFromLikely = 8

// How many accounts without twin carry a word that says what they are, and as what share
// of how often it would be found if twins carried it as well.
const (
	fewestMarked = 3
	mostOwned    = 0.1
	ownersAsked  = 40000
)

// shownMarks finds the words that accounts without twin carry again and again, and
// accounts of known humans hardly ever: what they are called by belongs to no human. Where
// keys say little, nothing can be told from that.
func (w *weigher) shownMarks() marks {
	r := w.in.Accounts
	_, owned := w.known(ownersAsked)
	if len(owned) == 0 || len(w.accounts) == 0 || len(w.accounts) > r.Len()/2 {
		return nil
	}
	open := w.tally(w.accounts, nil)
	for word, n := range open {
		if n < fewestMarked || n > len(w.accounts)/10 {
			delete(open, word)
		}
	}
	at := w.tally(owned, open)
	shown := marks{}
	for word, n := range open {
		if float64(at[word]) < mostOwned*float64(n)*float64(len(owned))/float64(len(w.accounts)) {
			shown[word] = true
		}
	}
	return shown
}

// tally counts the words that these accounts say; those that are asked for, or all.
func (w *weigher) tally(rows []record.Row, asked map[string]int) map[string]int {
	all := map[string]int{}
	var mu sync.Mutex
	parallel.InChunks(w.in.Cores, len(rows), func() func(from, to int) {
		return func(from, to int) {
			part := map[string]int{}
			for _, row := range rows[from:to] {
				eachToken(w.in.Accounts, int(row), func(word string) {
					if _, is := asked[word]; is || asked == nil {
						part[word]++
					}
				})
			}
			mu.Lock()
			defer mu.Unlock()
			for word, n := range part {
				all[word] += n
			}
		}
	})
	return all
}

// eachToken visits the words in which a record says what it is, each once. A login or a
// local part of one word is made of the name, or is a name of its own.
func eachToken(r *record.Roster, i int, yield func(word string)) {
	var seen [32]string
	n := 0
	for _, name := range saying {
		cell := r.Column(name).Cell(i)
		if name == "email" {
			cell, _, _ = strings.Cut(cell, "@")
		}
		if cell == "" {
			continue
		}
		words := tokens(cell)
		if len(words) < 2 && (name == "email" || name == "userName") {
			continue
		}
		for _, w := range words {
			if len(w) < 3 || n == len(seen) || slices.Contains(seen[:n], w) {
				continue
			}
			seen[n] = w
			n++
			yield(w)
		}
	}
}

// carried: the record says any of the words, or bears a number of one figure.
func (m marks) carried(r *record.Roster, i int) bool {
	for _, name := range saying {
		if m.in(r.Column(name).Cell(i)) {
			return true
		}
	}
	return slices.ContainsFunc(numbered, func(name string) bool { return oneFigure(r.Column(name).Cell(i)) })
}

// in reports whether a cell holds one of the words. Of plain letters, none is made a text of
// its own: most cells hold none.
func (m marks) in(cell string) bool {
	var room [64]byte
	n := 0
	for i := 0; i <= len(cell); i++ {
		c := byte(' ')
		if i < len(cell) {
			c = cell[i]
		}
		switch {
		case c >= utf8.RuneSelf, n == len(room):
			return slices.ContainsFunc(tokens(cell), func(w string) bool { return forTests[w] || forWork[w] || m[w] })
		case c >= 'A' && c <= 'Z':
			room[n] = c + 'a' - 'A'
			n++
		case c >= 'a' && c <= 'z':
			room[n] = c
			n++
		default:
			if w := room[:n]; n > 0 && (forTests[string(w)] || forWork[string(w)] || m[string(w)]) {
				return true
			}
			n = 0
		}
	}
	return false
}

// oneFigure tells a number such as 9999, which nobody was given in order.
func oneFigure(n string) bool { return len(n) >= 3 && strings.Trim(n, n[:1]) == "" }

// copied says by what one of the two looks like a copy of the other's human, "" when
// neither does.
func (m marks) copied(people *record.Roster, p int, accounts *record.Roster, a int) string {
	if word, where := m.says(accounts, a, people, p); word != "" {
		return fmt.Sprintf("the account says %q (%s): is it the human's own, or for tests, training, a service or an administrator?", word, where)
	}
	if word, where := m.says(people, p, accounts, a); word != "" {
		return fmt.Sprintf("the person says %q (%s): is it a human at all, or a copy for tests or training?", word, where)
	}
	return ""
}
