package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinning/internal/core/budget"
	"twinning/internal/core/charter"
	"twinning/internal/core/document"
	"twinning/internal/core/reconcile"
	"twinning/internal/core/record"
	"twinning/internal/format"
	"twinning/internal/format/anyfile"

	"twinning/internal/core/parallel"
)

// offline holds the flags of a reconciliation on two files, without a service.
type offline struct {
	charter, people, accounts, peopleShape, accountsShape, peopleID, accountsID, memory, out, rulings string
	whole                                                                                             bool // every attribute is read, not only what the charter asks for
	learn                                                                                             bool
	adopt                                                                                             bool // the memory is this lane's, where it does not say whose it is
	delimiter, encoding, at                                                                           string
}

func (o *offline) flags(cmd *cobra.Command) {
	o.reviewFlags(cmd)
	f := cmd.Flags()
	f.StringVar(&o.rulings, "rulings", "", "sheet of rulings to go by, and to keep in --memory (columns person_id, account_id, ruling, reason)")
	f.StringVar(&o.out, "out", "", "folder for twins, contested, findings, changes and balance")
}

// reviewFlags name two files and how they are read.
func (o *offline) reviewFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&o.charter, "charter", "", "the lane's rules (YAML)")
	f.StringVar(&o.people, "people", "", "the authority's list (CSV, JSON Lines, LDIF, SCIM JSON or xlsx; gzip allowed)")
	f.StringVar(&o.accounts, "accounts", "", "the downstream's list (in any of these formats)")
	f.StringVar(&o.peopleShape, "people-shape", "", "how the people's columns are to be read (YAML); guessed when not given")
	f.StringVar(&o.accountsShape, "accounts-shape", "", "how the accounts' columns are to be read (YAML); guessed when not given")
	o.idFlags(cmd)
	f.StringVar(&o.memory, "memory", "", "folder that keeps what the lane knows between runs")
	f.BoolVar(&o.adopt, "adopt-memory", false, "take the memory in --memory for this lane's, where it was written before memories said whose they are")
	f.StringVar(&o.at, "now", "", "the instant to reckon dates from (RFC 3339; default: the clock)")
	o.fileFlags(cmd)
}

func (o *offline) fileFlags(cmd *cobra.Command) {
	limitFlag(cmd)
	cmd.Flags().StringVar(&o.delimiter, "delimiter", "", "column separator: , ; | or tab (found out when not given)")
	cmd.Flags().StringVar(&o.encoding, "encoding", "", "utf-8, utf-16, latin-1 or windows-1252 (found out when not given)")
}

func (o *offline) options() (anyfile.Options, error) {
	delimiter, err := delimiterOf(o.delimiter)
	return anyfile.Options{Encoding: o.encoding, Delimiter: delimiter}, err
}

// delimiterOf reads an option; 0 says that nothing was given.
func delimiterOf(option string) (rune, error) {
	switch d := strings.ReplaceAll(option, `\t`, "\t"); {
	case d == "":
		return 0, nil
	case d == "tab":
		return '\t', nil
	case len(d) == 1 && !strings.ContainsAny(d, "\"\r\n"):
		return rune(d[0]), nil
	}
	return 0, misuse("--delimiter %q: expected one character or the word tab", option)
}

// idFlags name the column that is the id, where nothing else is to be said.
func (o *offline) idFlags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.peopleID, "people-id", "", "the people's column that is the id, where no shape says it")
	cmd.Flags().StringVar(&o.accountsID, "accounts-id", "", "the accounts' column that is the id, where no shape says it")
}

// laneOrMemory takes a lane of the service, or nothing beside the folder that is meant
// instead, with so many more arguments behind it.
func laneOrMemory(memory *string, more ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if *memory != "" {
			return exact(more...)(cmd, args)
		}
		return exact(append([]string{"LANE"}, more...)...)(cmd, args)
	}
}

// limitFlag lets a command take more than is the rule.
func limitFlag(cmd *cobra.Command) {
	cmd.Flags().Func("limit", "take more of something than is the rule, such as columns=5000 or workbook=2GiB; may be repeated (env TWINNING_LIMITS)", budget.Set)
}

// side is one of the two files on its way to a roster.
type side struct {
	name    string
	file    format.File
	shape   record.Shape
	guessed bool
	guess   understood // of a guessed shape
	roster  *record.Roster
}

func readShape(path string) (shape record.Shape, err error) {
	src, err := os.ReadFile(path)
	if err != nil {
		return shape, err
	}
	if shape, err = record.ParseShape(src); err != nil {
		return shape, fmt.Errorf("shape %q:\n%w", path, err)
	}
	return shape, nil
}

func openFile(path string, opt anyfile.Options) (format.File, error) {
	f, err := format.RegularAt(path)
	if err != nil {
		return nil, err
	}
	defer f.Close() // only read
	file, err := anyfile.Open(sized{f}, opt)
	if err != nil {
		return nil, fmt.Errorf("file %q: %w", path, err)
	}
	return file, nil
}

// sized lets the reader know the file's size beforehand.
type sized struct{ *os.File }

func (s sized) Size() int64 {
	if info, err := s.Stat(); err == nil {
		return info.Size()
	}
	return 0
}

func openSide(name, path, shapePath, id string, opt anyfile.Options) (s *side, err error) {
	s = &side{name: name}
	if shapePath != "" {
		if s.shape, err = readShape(shapePath); err != nil {
			return nil, err
		}
	}
	if s.file, err = openFile(path, opt); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if shapePath == "" {
		if s.guess, err = understand(s.file); err != nil { // as shape guess and the preview do
			return nil, fmt.Errorf("%s: file %q: %w", name, path, err)
		}
		s.guessed, s.shape = true, s.guess.shape
	}
	if id != "" {
		if !s.guessed {
			return nil, misuse("--%s-id beside --%s-shape: the shape says which column is the id", name, name)
		}
		if !slices.Contains(s.file.Natives(), id) {
			return nil, misuse("--%s-id: there is no column %q%s; the columns are %s", name, id, document.Suggest(id, s.file.Natives()), strings.Join(s.file.Natives(), ", "))
		}
		s.shape.Attributes["id"] = record.Source{Native: id}
	}
	if err := anyfile.CheckShape(s.file, s.shape); err != nil {
		if s.guessed && s.shape.Attributes["id"].Native == "" && len(s.file.Natives()) > 1 {
			return nil, fmt.Errorf("%s: file %q: %s; the columns are %s. Name one with --%s-id COLUMN, or in a shape (twinning shape guess FILE > %s-shape.yaml, then --%s-shape)", name, path, s.guess.id, strings.Join(s.file.Natives(), ", "), name, name, name)
		}
		return nil, fmt.Errorf("%s: file %q: %w", name, path, err)
	}
	return s, nil
}

// A reconciliation on files is over in seconds, and most of what it reads lives
// until its end: collecting garbage half as often saves a tenth of the time, and
// the limit brings it back where memory is short.
const (
	garbagePercent = 200
	memoryLimit    = 1980 << 20 // bytes
)

// run reads both files, reconciles and returns what came of it.
func (o *offline) run(talk io.Writer) (*result, error) {
	in, err := o.input(talk)
	if err != nil {
		return nil, err
	}
	return &result{Input: *in, Output: reconcile.Run(*in)}, nil
}

// input reads both files, the charter and what is remembered.
func (o *offline) input(talk io.Writer) (*reconcile.Input, error) {
	for _, required := range [][2]string{{"charter", o.charter}, {"people", o.people}, {"accounts", o.accounts}} {
		if required[1] == "" {
			return nil, misuse("--%s is required for a reconciliation on files; a reconciliation in the service names its lane", required[0])
		}
	}
	debug.SetGCPercent(garbagePercent)
	debug.SetMemoryLimit(memoryLimit)
	opt, err := o.options()
	if err != nil {
		return nil, err
	}
	now := time.Now()
	if o.at != "" {
		if now, err = time.Parse(time.RFC3339, o.at); err != nil {
			return nil, misuse("--now %q: expected an instant such as 2026-11-25T08:00:00Z", o.at)
		}
	}
	people, accounts, err := both(
		func() (*side, error) { return openSide("people", o.people, o.peopleShape, o.peopleID, opt) },
		func() (*side, error) { return openSide("accounts", o.accounts, o.accountsShape, o.accountsID, opt) })
	if err != nil {
		return nil, err
	}
	source, err := os.ReadFile(o.charter)
	if err != nil {
		return nil, err
	}
	rules, err := charter.Parse(source, charter.Vocabulary{Person: people.shape.Custom(), Account: accounts.shape.Custom()})
	if err != nil {
		return nil, fmt.Errorf("charter %q:\n%w", o.charter, err)
	}
	memory, err := loadMemory(o.memory)
	if err != nil {
		return nil, err
	}
	switch err := memory.Claim(rules, o.adopt); {
	case errors.Is(err, reconcile.ErrNameless):
		return nil, fmt.Errorf("memory %q: %w; ids of another lane are other people's: if it is of lane %s, say so once with --adopt-memory", o.memory, err, rules.Lane)
	case err != nil:
		return nil, fmt.Errorf("memory %q: %w; name this lane's own folder, or a new one", o.memory, err)
	}
	if o.learn {
		memory.Weights = nil
	}
	if o.rulings != "" {
		if err := ruleBySheet(&memory, o.rulings, talk); err != nil {
			return nil, err
		}
	}
	people.shape, accounts.shape = people.shape.In(rules.Zone), accounts.shape.In(rules.Zone)
	needPeople, needAccounts := rules.Needs()
	if o.whole {
		needPeople, needAccounts = nil, nil
	}
	if _, _, err := both(
		func() (*side, error) { return people, people.read(needPeople) },
		func() (*side, error) { return accounts, accounts.read(needAccounts) }); err != nil {
		return nil, err
	}
	people.tell(talk)
	accounts.tell(talk)
	for _, n := range rules.Notes {
		fmt.Fprintf(talk, "note: charter %s\n", n)
	}
	return &reconcile.Input{
		Charter: rules, People: people.roster, Accounts: accounts.roster, Memory: memory, Now: now,
		Reading: now.UTC().Format(time.RFC3339Nano), Mark: accounts.shape.Mark, Deferred: accounts.shape.Upload != nil, Cores: runtime.NumCPU(),
	}, nil
}

func (s *side) read(wanted []string) (err error) {
	if s.roster, err = anyfile.Roster(s.file, s.shape, wanted); err != nil {
		return fmt.Errorf("%s: %w", s.name, err)
	}
	s.file = nil // the text is no longer needed
	return nil
}

func (s *side) tell(talk io.Writer) {
	rejected := ""
	if n := len(s.roster.Rejected); n > 0 {
		rejected = fmt.Sprintf(", %d rejected", n)
	}
	fmt.Fprintf(talk, "%s: %d records%s\n", s.name, s.roster.Len(), rejected)
	s.tellRejected(talk)
	if !s.guessed {
		return
	}
	var pairs []string
	for _, n := range s.roster.Names() {
		if native := s.shape.Attributes[n].Native; native != "" && native != n {
			pairs = append(pairs, n+" from "+native)
		}
	}
	if len(pairs) > 0 {
		slices.Sort(pairs)
		fmt.Fprintf(talk, "%s: no shape given; read %s\n", s.name, strings.Join(pairs, ", "))
	}
	for _, u := range s.guess.columns {
		if u.Note != "" && s.shape.Uses(u.Native) && u.Kind != "nothing" {
			fmt.Fprintf(talk, "%s: look at %s: %s\n", s.name, u.Native, u.Note)
		}
	}
}

// reasonsShown are the reasons for which rows could not be read, before the balance.
const reasonsShown = 3

// tellRejected says why rows could not be read, each reason once.
func (s *side) tellRejected(talk io.Writer) {
	first, more := map[string]int{}, map[string]int{}
	var reasons []string
	for _, r := range s.roster.Rejected {
		why := strings.TrimPrefix(r.Column+": "+r.Reason, ": ")
		if _, met := first[why]; met {
			more[why]++
			continue
		}
		first[why] = r.Line
		reasons = append(reasons, why)
	}
	for i, why := range reasons {
		if i == reasonsShown {
			fmt.Fprintf(talk, "  and %s more reasons\n", thousands(len(reasons)-i))
			return
		}
		lines := fmt.Sprintf("line %d", first[why])
		if n := more[why]; n > 0 {
			lines += fmt.Sprintf(" and %s more", thousands(n))
		}
		fmt.Fprintf(talk, "  %s: %s\n", lines, why)
	}
}

func both[T any](first, second func() (T, error)) (a, b T, err error) {
	var err1, err2 error
	var wg parallel.Group
	wg.Go(func() { a, err1 = first() })
	wg.Go(func() { b, err2 = second() })
	wg.Wait()
	if err1 != nil {
		return a, b, err1
	}
	return a, b, err2
}
