package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"

	"twinning/internal/access"
	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/core/reconcile"
	"twinning/internal/crypt"
	"twinning/internal/execution"
	"twinning/internal/fault"
	"twinning/internal/format"
	"twinning/internal/format/anyfile"
	"twinning/internal/store"
)

// DeliveryFilter says which are listed; zero values are all.
type DeliveryFilter struct {
	Run   int64
	Verb  string
	State string
}

// Deliveries lists what the holders of a lane's accounts were sent, the newest first.
func (s *Service) Deliveries(ctx context.Context, lane string, f DeliveryFilter, p store.Page) ([]store.Delivery, string, int, error) {
	l, err := s.lane(ctx, lane)
	if err != nil {
		return nil, "", 0, err
	}
	return s.Store.Deliveries(ctx, l.ID, f.Run, f.Verb, f.State, p)
}

// collected are the columns of the file in which secrets are handed over.
var collected = []string{"whose", "person", "account", "login", "secret"}

// CollectSecrets gives out, once, the secrets of a run that wait for it, as a file that is
// encrypted to a passphrase. Nobody can take them again: the entry in the trail, and that they
// are gone, come first. Where the caller gives a count, so many must wait; 0: any number.
func (s *Service) CollectSecrets(ctx context.Context, who access.Caller, run int64, passphrase string, count int) (Export, error) {
	x, err := s.Run(ctx, run)
	if err != nil {
		return Export{}, err
	}
	if n := utf8.RuneCountInString(passphrase); n < minPassword || n > maxPassword || !utf8.ValidString(passphrase) || guessable(passphrase, who.Name, x.Lane) {
		return Export{}, &fault.Error{Cause: "password-weak", Kind: fault.Invalid, Title: "the passphrase is too easy to guess", Detail: fmt.Sprintf("it has %d to %d characters, and is none of those that are tried first: whoever gets hold of the file can try as long as they like", minPassword, maxPassword), Field: "passphrase", Next: "take several words that have nothing to do with one another, and tell it on another way than the file"}
	}
	leave, err := s.hashing(ctx) // it takes as much memory
	if err != nil {
		return Export{}, err
	}
	defer leave()
	var file []byte
	err = s.act(ctx, who, "delivery.collect", fmt.Sprintf("run %d", run), nil, func(tx *store.Store) error {
		list, err := tx.Collect(ctx, run, who.Name)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			return fault.New(fault.Conflict, fmt.Sprintf("no secret of run %d waits to be collected", run), "each is given out once, and is gone when its days are over", fmt.Sprintf("see what became of them: twinning delivery list %s --run %d; reissue what is lost", x.Lane, run)).Because("nothing-to-do")
		}
		if count > 0 && count != len(list) {
			return fault.New(fault.Conflict, fmt.Sprintf("%d secrets of run %d wait to be collected, not %d", len(list), run, count), "nothing was collected", fmt.Sprintf("list them again: twinning delivery list %s --run %d", x.Lane, run)).Because("moved-on")
		}
		var plain bytes.Buffer
		out, err := anyfile.NewWriter(&plain, "csv", collected, format.Writing{People: true, BOM: true})
		if err != nil {
			return err
		}
		for _, d := range list {
			secret, err := s.Keeper.Decrypt(execution.SecretLabel(d.Run, d.Number), d.Secret)
			if err != nil {
				return fault.New(fault.Conflict, fmt.Sprintf("the secret of %s can't be read", d.Account), err.Error(), "reissue it")
			}
			if err := out.Write(map[string][]string{"whose": {d.Label}, "person": {d.Person}, "account": {d.Account}, "login": {d.Login}, "secret": {secret}}); err != nil {
				return err
			}
		}
		if err := out.Close(); err != nil {
			return err
		}
		file, err = crypt.EncryptFile(passphrase, plain.Bytes())
		return err
	})
	if err != nil {
		return Export{}, err
	}
	return Export{Name: fmt.Sprintf("run-%d-secrets.csv.age", run), write: func(w io.Writer) error { // it waits for no place: it is taken
		_, err := w.Write(file)
		return err
	}}, nil
}

// guessable: a password is among those that are tried first.
func guessable(password string, words ...string) bool {
	n := utf8.RuneCountInString(password)
	return zxcvbn.PasswordStrength(string([]rune(password)[:min(n, 100)]), append(words, "twinning")).Score < minStrength
}

// accepted notes of invitations what the newest roster shows of them, and lets go of secrets
// that nobody came for.
func (s *Service) accepted(ctx context.Context, in laneInput) error {
	if err := s.Store.ForgetSecrets(ctx); err != nil {
		return err
	}
	open, err := s.Store.OpenInvitations(ctx, in.lane.ID)
	if err != nil || len(open) == 0 {
		return err
	}
	return s.Store.AcceptInvitations(ctx, in.lane.ID, reconcile.Accepted(in.Accounts, open))
}

// unposted says what keeps letters of a plan from being sent.
func (s *Service) unposted(ctx context.Context, p store.Plan, source string) (string, error) {
	verbs := map[string]int{}
	if err := json.Unmarshal(p.Verbs, &verbs); err != nil || s.Post != nil || verbs[planning.Reissue]+verbs[planning.Invite] == 0 {
		return "", err
	}
	rules, err := s.parse(ctx, source)
	if err != nil {
		return "", err
	}
	if verbs[planning.Invite] == 0 && (rules.Secrets == nil || !slices.Contains(rules.Secrets.By, charter.ByMail)) {
		return "", nil
	}
	return "it sends letters, and no mail server is set (twinning serve --mail smtp://USER@HOST --mail-from ADDRESS)", nil
}
