package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"twinning/internal/core/pairing"
	"twinning/internal/core/parallel"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/format"
)

// result is an offline reconciliation with what it was made from.
type result struct {
	reconcile.Input
	*reconcile.Output
}

const memoryFile = "memory.json"

func loadMemory(dir string) (m reconcile.Memory, err error) {
	if dir == "" {
		return m, nil
	}
	path := filepath.Join(dir, memoryFile)
	src, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return m, nil
	}
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(src, &m); err != nil {
		return m, fmt.Errorf("memory %q is damaged: %w; restore it, or remove it to start anew", path, err)
	}
	return m, nil
}

func saveMemory(dir string, m reconcile.Memory) error {
	if dir == "" {
		return nil
	}
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	src, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return err
	}
	return replaceFile(filepath.Join(dir, memoryFile), func(w io.Writer) error { _, err := w.Write(append(src, '\n')); return err })
}

// replaceFile writes beside the file and then takes its place, so that a
// reader never sees half of it.
func replaceFile(path string, write func(io.Writer) error) error {
	tmp, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name()) // gone when renamed
	buf := bufio.NewWriterSize(tmp, 1<<20)
	if err := errors.Join(write(buf), buf.Flush(), tmp.Chmod(0o640), tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), path)
}

// write puts the result's files into dir.
func (r *result) write(dir string) error {
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	files := map[string]func(io.Writer) error{
		"twins.csv": r.writeTwins, "contested.csv": r.writeContested, "findings.csv": r.writeFindings, "changes.csv": r.writeChanges, "withheld.csv": r.writeWithheld, "intentions.csv": r.writeIntentions, "balance.json": r.writeBalance,
	}
	if r.Pairing.Weights != nil {
		for i, write := range []func(io.Writer) error{r.writeWeights, r.writeCandidates} {
			files[onlyWithEvidence[i]] = write
		}
	}
	var wg parallel.Group
	failed := make(chan error, len(files))
	for name, write := range files {
		wg.Go(func() { failed <- replaceFile(filepath.Join(dir, name), write) })
	}
	wg.Wait()
	close(failed)
	var err error
	for e := range failed {
		err = errors.Join(err, e)
	}
	for _, name := range onlyWithEvidence { // of another run, it would be taken for this one's
		if files[name] == nil && err == nil {
			if gone := os.Remove(filepath.Join(dir, name)); !errors.Is(gone, fs.ErrNotExist) {
				err = gone
			}
		}
	}
	return err
}

// onlyWithEvidence are the files that not every run writes.
var onlyWithEvidence = []string{"weights.json", "candidates.csv"}

func (r *result) writeTwins(w io.Writer) error {
	p := r.Pairing
	whys := make([]string, len(r.Charter.Keys))
	for i, k := range r.Charter.Keys {
		whys[i] = "agree on " + k.Name + ", which nobody else carries"
	}
	return writeCSV(w, "person_id,account_id,basis,probability,why", func(f *sheetFile) {
		for _, row := range r.People.Order() {
			i := int(row)
			if p.PersonState[i] != pairing.Twinned {
				continue
			}
			probability, why := "1", "ruled by a human"
			switch p.Basis[i] {
			case pairing.Weighed:
				probability, why = strconv.FormatFloat(float64(p.Probability[i]), 'f', -1, 32), "evidence"
				if c, ok := p.Candidate(i, int(p.PersonTwin[i])); ok {
					why = p.Weights.Sentence(&c.Pattern)
				}
			case pairing.Keyed:
				why = whys[p.By[i]]
			case pairing.Bonded:
				why = "bonded by a ruling or an earlier run"
			}
			f.row(r.People.ID(i), r.Accounts.ID(int(p.PersonTwin[i])), p.Basis[i].String(), probability, why)
		}
	})
}

// sheetCell is a value as a sheet may show it: what a spreadsheet would run is defused.
func sheetCell(cell string) string {
	if strings.HasPrefix(cell, "-") {
		if _, err := strconv.ParseFloat(cell, 64); err == nil { // a number of ours
			return cell
		}
	}
	return format.Defuse(cell)
}

// sheetFile writes rows for people. At millions of rows the general CSV writer takes three
// times as long.
type sheetFile struct {
	w   io.Writer
	buf []byte
	err error
}

func (f *sheetFile) row(cells ...string) {
	for i, cell := range cells {
		cells[i] = sheetCell(cell)
	}
	f.buf = format.AppendRow(f.buf, ',', cells...)
	if len(f.buf) > 1<<15 {
		f.flush()
	}
}

func (f *sheetFile) flush() {
	if f.err == nil {
		_, f.err = f.w.Write(f.buf)
	}
	f.buf = f.buf[:0]
}

func writeCSV(w io.Writer, header string, rows func(f *sheetFile)) error {
	f := &sheetFile{w: w, buf: format.AppendRow(make([]byte, 0, 1<<16), ',', strings.Split(header, ",")...)}
	rows(f)
	f.flush()
	return f.err
}

// writeContested tells who is asked about. Its last two columns are a human's, and
// what comes back is read by them alone: what a machine was asked by is no reason.
func (r *result) writeContested(w io.Writer) error {
	person := func(i int) string { return record.Label(r.People, i) }
	account := func(i int) string { return record.Label(r.Accounts, i) }
	return writeCSV(w, "person_id,account_id,probability,asked_because,person,account,ruling,reason", func(f *sheetFile) {
		askedPerson, askedAccount := map[int]bool{}, map[int]bool{}
		for _, p := range r.Pairing.Proposals {
			askedPerson[p.Person], askedAccount[p.Account] = true, true
			probability := ""
			if p.Probability > 0 {
				probability = strconv.FormatFloat(float64(p.Probability), 'f', 4, 32)
			}
			f.row(r.People.ID(p.Person), r.Accounts.ID(p.Account), probability, p.Reason, person(p.Person), account(p.Account), "", "")
		}
		// whoever is contested without a proposal is told too
		for _, row := range r.People.Order() {
			if i := int(row); r.Pairing.PersonState[i] == pairing.Contested && !askedPerson[i] {
				f.row(r.People.ID(i), "", "", r.Pairing.PersonNote[i], person(i), "", "", "")
			}
		}
		for _, row := range r.Accounts.Order() {
			if i := int(row); r.Pairing.AccountState[i] == pairing.Contested && !askedAccount[i] {
				f.row("", r.Accounts.ID(i), "", r.Pairing.AccountNote[i], "", account(i), "", "")
			}
		}
	})
}

// writeCandidates tells every pair that evidence speaks for, joined or not: what
// thresholds are set by.
func (r *result) writeCandidates(w io.Writer) error {
	number := func(x float32) string { return strconv.FormatFloat(float64(x), 'f', 4, 32) }
	return writeCSV(w, "person_id,account_id,bits,before_assignment,probability", func(f *sheetFile) {
		for _, c := range r.Pairing.Candidates {
			f.row(r.People.ID(int(c.Person)), r.Accounts.ID(int(c.Account)), strconv.FormatFloat(float64(c.Bits), 'f', 1, 32), number(c.Before), number(c.Probability))
		}
	})
}

func (r *result) writeFindings(w io.Writer) error {
	return writeCSV(w, "code,severity,person_id,account_id,detail,remedy", func(f *sheetFile) {
		for _, x := range r.Findings {
			f.row(x.Code, string(x.Severity), x.Person, x.Account, x.Detail, x.Remedy)
		}
	})
}

func (r *result) writeChanges(w io.Writer) error {
	return writeCSV(w, "wave,verb,person_id,account_id,attribute,old,new,reason", func(f *sheetFile) {
		for _, c := range r.Changes {
			for _, e := range c.Edits {
				f.row(r.Charter.Waves[c.Wave].Name, c.Verb, c.Person, c.Account, e.Attribute, shown(e.Old), shown(e.New), e.Reason)
			}
		}
	})
}

func (r *result) writeWithheld(w io.Writer) error {
	return writeCSV(w, "verb,person_id,account_id,reason", func(f *sheetFile) {
		for _, x := range r.Withheld {
			f.row(x.Verb, x.Person, x.Account, x.Reason)
		}
	})
}

func (r *result) writeIntentions(w io.Writer) error {
	return writeCSV(w, "intention,verb,person_id,account_id,due,waits,reason,cancelled", func(f *sheetFile) {
		for _, x := range r.Output.Memory.Intentions {
			f.row(x.ID, x.Verb, x.Person, x.Account, x.Due, x.Waits, x.Reason, x.Cancelled)
		}
	})
}

// shown joins a list's values as a sheet shows them.
func shown(cell string) string { return strings.ReplaceAll(cell, string(record.ListSep), ";") }

func (r *result) writeWeights(w io.Writer) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	return enc.Encode(r.Pairing.Weights)
}

func (r *result) writeBalance(w io.Writer) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	return enc.Encode(balancesOf(r.Balance))
}

// balancesOf has both sides by their words.
func balancesOf(whole reconcile.Balance) map[string]any {
	counts := func(columns []column) map[string]int {
		out := map[string]int{"total": total(columns)}
		for _, c := range columns {
			out[c.word] = c.count
		}
		return out
	}
	b := balanceOf(whole)
	return map[string]any{"people": counts(b.people), "accounts": counts(b.accounts)}
}
