package pairing

import (
	"fmt"
	"strings"
	"unicode"

	"twinning/internal/core/record"
)

// A copy of somebody for tests or training, a service's or an administrator's account
// carries the human's name, and says in a word that it is not the human's own. By
// evidence alone it is never joined: whoever knows is asked.

// forTests are said of accounts that copy a human, wherever they are said.
var forTests = wordsOf(`test tests testing tester testuser tst dummy demo sandbox training formacion capacitacion prueba pruebas formation essai essais schulung
	schulungen testkonto ubung egitim deneme szkolenie szkolenia testowe testowy treinamento teste testes formazione prova opleiding utbildning ovning`)

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

// says finds a word that one record says of itself and the other does not, and where.
func says(one *record.Roster, i int, other *record.Roster, j int) (word, attribute string) {
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
			if (forTests[w] || !trade && forWork[w]) && !saysToo(other, j, w) {
				return w, name
			}
		}
	}
	if n := one.Column("employeeNumber").Cell(i); oneFigure(n) && other.Column("employeeNumber").Cell(j) != "" && n != other.Column("employeeNumber").Cell(j) {
		return n, "employeeNumber"
	}
	return "", ""
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
	met := [2]map[record.Row]bool{{}, {}}
	marked := func(side int, r *record.Roster, row record.Row) bool {
		m, known := met[side][row]
		if !known {
			m = carriesMark(r, int(row))
			met[side][row] = m
		}
		return m
	}
	for i := range w.pairs {
		x := &w.pairs[i]
		p, a := w.people[x.Person], w.accounts[x.Account]
		if marked(0, w.in.People, p) || marked(1, w.in.Accounts, a) {
			x.copy = copied(w.in.People, int(p), w.in.Accounts, int(a))
		}
	}
}

// carriesMark: the record says any of the words, or bears a number of one figure.
func carriesMark(r *record.Roster, i int) bool {
	for _, name := range saying {
		for _, w := range tokens(r.Column(name).Cell(i)) {
			if forTests[w] || forWork[w] {
				return true
			}
		}
	}
	return oneFigure(r.Column("employeeNumber").Cell(i))
}

// oneFigure tells a number such as 9999, which nobody was given in order.
func oneFigure(n string) bool { return len(n) >= 3 && strings.Trim(n, n[:1]) == "" }

// copied says by what one of the two looks like a copy of the other's human, "" when
// neither does.
func copied(people *record.Roster, p int, accounts *record.Roster, a int) string {
	if word, where := says(accounts, a, people, p); word != "" {
		return fmt.Sprintf("the account says %q (%s): is it the human's own, or for tests, training, a service or an administrator?", word, where)
	}
	if word, where := says(people, p, accounts, a); word != "" {
		return fmt.Sprintf("the person says %q (%s): is it a human at all, or a copy for tests or training?", word, where)
	}
	return ""
}
