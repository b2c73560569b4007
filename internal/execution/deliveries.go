package execution

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinning/internal/connector"
	"twinning/internal/connector/outbound"
	"twinning/internal/core/charter"
	"twinning/internal/core/planning"
	"twinning/internal/crypt"
	"twinning/internal/store"
)

// A secret and a letter go once. Before the account is touched, the mail server has taken the
// address: whoever can't be reached keeps the secret that they have. The secret is made and
// encrypted with the intent; once the account has it, the delivery is noted as on its way, the
// secret forgotten, and the letter sent. Whoever goes on after a node has died finds one of
// these: nothing was sent; whether the account has the secret is not known, which a human
// settles; or the letter may be on its way, and is not sent again.

// Post opens letters: the mail server has taken the address, and nothing is sent yet.
type Post func(ctx context.Context, to string) (Letter, error)

// Letter is sent once, or dropped. An error of Send that has MayBeSent, and says so, leaves
// open whether it has left.
type Letter interface {
	Send(subject, text string) error
	Drop()
}

// delivering is what a change sends to the holder of its account.
type delivering struct {
	secret string // "" of an invitation
	login  string
	letter Letter // nil: it is not mailed
	run    int64  // that meant it
}

// prepare makes ready what is sent, before anything is written; settled says that nothing is.
func (s *sender) prepare(rec connector.Record) (settled bool) {
	d := s.c.Body.V.Delivers
	if s.delivering == nil {
		s.delivering = &delivering{run: s.r.RunID}
	}
	x := s.delivering
	var err error
	if x.login, err = s.cell(rec, "userName"); err != nil || x.login == "" {
		x.login = s.c.Label
	}
	if s.c.Verb == planning.Reissue && x.secret == "" {
		if s.charter.Secrets == nil {
			s.conclude("stale", "the charter gives no secrets any more")
			return true
		}
		if _, can := s.conn.(connector.Reissuer); !can {
			s.conclude("refused", "%s takes no secrets from us: this kind of system can't do that", s.system.Name)
			return true
		}
		var kinds []string
		for _, k := range s.charter.Secrets.Kinds {
			kinds = append(kinds, charter.Kinds[k])
		}
		x.secret = crypt.NewSecret(s.charter.Secrets.Length, kinds, append(strings.Fields(s.c.Label), x.login)...)
		outbound.Remember(x.secret)
	}
	if d.By != charter.ByMail {
		return false
	}
	x.drop()
	if x.letter, err = s.Post(s.ctx, d.To); err != nil {
		x.letter = nil
		s.conclude("failed", "nothing was changed, since the letter could not be sent: %v", err)
		return true
	}
	return false
}

// drop gives a letter up that was not sent.
func (x *delivering) drop() {
	if x != nil && x.letter != nil {
		x.letter.Drop()
	}
}

// meant is what stands with the intent.
func (s *sender) meant() *store.Delivery {
	d, x := s.c.Body.V.Delivers, s.delivering
	if d == nil {
		return nil
	}
	out := &store.Delivery{Verb: s.c.Verb, Person: s.c.Person, Label: s.c.Label, Login: x.login, By: d.By, To: d.To, Sponsor: d.Sponsor}
	if x.secret != "" {
		out.Secret = s.Reach.Keeper.Encrypt(SecretLabel(s.r.RunID, s.c.Number), x.secret)
	}
	return out
}

// SecretLabel is what the secret of a change is bound to, where it is kept.
func SecretLabel(run int64, number int) string {
	return fmt.Sprintf("delivery %d of run %d", number, run)
}

// reissue gives the account its secret; an invitation writes nothing.
func (s *sender) reissue(write connector.Write) (after connector.Record, err error) {
	if s.c.Verb == planning.Reissue {
		if err := s.conn.(connector.Reissuer).Reissue(s.ctx, *write.Record, s.delivering.secret); err != nil {
			return after, s.struck(err)
		}
	}
	return *write.Record, nil
}

// struck takes the secret out of what a system says.
func (s *sender) struck(err error) error {
	var told *connector.Error
	if !errors.As(err, &told) {
		return err
	}
	clean := *told
	clean.Reason, clean.Next = outbound.Clear(told.Reason), outbound.Clear(told.Next)
	clean.Cause = nil // it may say it too
	return &clean
}

// handOver hands over what the account has by now, once. An error is ours: whoever goes on
// finds how far it came.
func (s *sender) handOver(rec connector.Record) error {
	d, x := s.c.Body.V.Delivers, s.delivering
	now, until := store.DeliverySending, (*time.Time)(nil)
	switch {
	case d.By == charter.ByFile:
		now, until = store.DeliveryKept, in(s.Now(), s.charter.Secrets.Kept)
	case s.c.Verb == planning.Invite:
		until = in(s.Now(), s.charter.Pending)
	}
	if err := s.Store.MoveDelivery(s.ctx, s.w.Task, x.run, s.c.Number, store.DeliveryMeant, now, until); err != nil {
		return err
	}
	s.r.Account, s.r.After.V = rec.ID, s.values(rec)
	s.trace("it is on its way")
	said := []string{d.String()}
	if d.By == charter.ByFile {
		said = []string{"kept until " + until.UTC().Format("2006-01-02 15:04 UTC") + fmt.Sprintf(": twinning delivery collect %d", x.run)}
	} else if err := x.letter.Send(s.letter()); err != nil {
		var told interface{ MayBeSent() bool }
		if !errors.As(err, &told) || told.MayBeSent() {
			s.mayHaveLeft(" (" + err.Error() + ")")
			return s.ctx.Err()
		}
		if err := s.Store.MoveDelivery(s.ctx, s.w.Task, x.run, s.c.Number, store.DeliverySending, store.DeliveryNotSent, nil); err != nil {
			return err
		}
		s.notTaken(err.Error())
		return nil
	} else if err := s.Store.MoveDelivery(s.ctx, s.w.Task, x.run, s.c.Number, store.DeliverySending, store.DeliverySent, until); err != nil {
		return err
	}
	s.conclude("done", "%s", strings.Join(append(said, s.mustChange()...), "; "))
	return nil
}

func in(now time.Time, days int) *time.Time {
	at := now.AddDate(0, 0, days)
	return &at
}

// mustChange writes what makes its holder choose another secret. That comes last: setting a
// secret takes it back in many systems. What kept it from being written is told.
func (s *sender) mustChange() []string {
	if len(s.writes(s.c)) == 0 {
		return nil
	}
	rec, err := s.account(s.ctx, s.c.Account)
	var edits []connector.Edit
	if err == nil {
		edits, err = s.nativeEdits(&rec)
	}
	if err == nil {
		rec, err = s.conn.Write(s.ctx, connector.Write{Record: &rec, Edits: edits})
	}
	if err != nil {
		return []string{"that it has to be changed could not be written: " + err.Error()}
	}
	s.r.Account, s.r.After.V = rec.ID, s.values(rec)
	return nil
}

// letter is what is told to the holder of the account.
func (s *sender) letter() (subject, text string) {
	d, x := s.c.Body.V.Delivers, s.delivering
	title, login, sponsor := oneLine(cmp.Or(s.system.Title, s.system.Name)), oneLine(x.login), oneLine(d.Sponsor)
	lines := []string{"Hello,", "", fmt.Sprintf("you have an account at %s, and have not signed in yet.", title), "", "  login    " + login}
	subject, signIn, ends := "Your account at "+title, "", []string{"If you did not expect this, tell whoever runs your accounts; nobody has to do anything."}
	if s.c.Verb == planning.Reissue {
		lines[2] = fmt.Sprintf("your account at %s has a new secret. It was told to nobody but you.", title)
		lines = append(lines, "  secret   "+x.secret)
		subject, signIn = "A new secret for your account at "+title, s.charter.Secrets.SignIn
		ends = []string{"Change it when you have signed in.", "If you did not expect this, tell whoever runs your accounts. Nobody will ever ask you for it."}
	} else {
		signIn = s.charter.Invitations.SignIn
	}
	if signIn != "" {
		lines = append(lines, "  sign in  "+signIn)
	}
	lines = append(lines, "")
	if sponsor != "" {
		lines = append(lines, sponsor+" vouches for you.", "")
	}
	return subject, strings.Join(slices.Concat(lines, ends), "\n") + "\n"
}

// oneLine keeps what a list says in its place: a name with a line of its own could tell people
// to sign in elsewhere.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// resume settles a delivery that another node was at: goesOn says that nothing of it was sent,
// and that it may be.
func (s *sender) resume() (goesOn bool, err error) {
	d, err := s.Store.DeliveryOf(s.ctx, s.plan.ID, s.c.Number)
	switch {
	case errors.Is(err, store.ErrNotFound):
		s.conclude("in-doubt", "what was sent is not known")
		return false, nil
	case err != nil:
		return false, err
	}
	switch d.State {
	case store.DeliveryMeant:
		if s.c.Verb == planning.Invite {
			return true, nil
		}
		secret, err := s.Reach.Keeper.Decrypt(SecretLabel(d.Run, d.Number), d.Secret)
		if err == nil {
			outbound.Remember(secret)
			s.delivering = &delivering{secret: secret, login: d.Login, run: d.Run}
		}
		return false, s.ask()
	case store.DeliverySending:
		s.mayHaveLeft("")
		return false, s.ctx.Err()
	case store.DeliveryNotSent:
		if s.c.Verb == planning.Invite {
			return true, nil
		}
		s.notTaken("as the process before this one noted")
		return false, nil
	default:
		s.conclude("done", "%s", strings.Join(append([]string{s.c.Body.V.Delivers.String()}, s.mustChange()...), "; "))
	}
	return false, s.ctx.Err()
}

// notTaken is said of a letter that has certainly not left.
func (s *sender) notTaken(why string) {
	if s.c.Verb == planning.Invite {
		s.conclude("failed", "nothing was sent: %s", why)
		return
	}
	s.conclude("failed", "the account has a new secret that nobody knows, since its letter was not taken: %s; reissue it", why)
}

// mayHaveLeft is said of a letter of which nobody knows: a second one would be one too many.
func (s *sender) mayHaveLeft(why string) {
	again := map[string]string{planning.Reissue: "reissue it", planning.Invite: "invite them again"}[s.c.Verb]
	said := fmt.Sprintf("%s; whether the letter has left is not known%s: ask its holder, and %s where it has not come", s.c.Body.V.Delivers, why, again)
	s.conclude("done", "%s", strings.Join(append([]string{said}, s.mustChange()...), "; "))
}

// ask finds out about a secret of which no answer came, where the system can be asked, and goes
// on from there; else nobody knows.
func (s *sender) ask() error {
	rec, has := s.proved()
	if !has {
		s.unknown()
		return s.ctx.Err()
	}
	s.trace("the account has the secret")
	if d := s.c.Body.V.Delivers; d.By == charter.ByMail && s.delivering.letter == nil {
		letter, err := s.Post(s.ctx, d.To)
		if err != nil {
			s.notTaken(err.Error())
			return s.ctx.Err()
		}
		s.delivering.letter = letter
	}
	return s.handOver(rec)
}

// proved signs in with the secret, once, where that can be tried.
func (s *sender) proved() (rec connector.Record, has bool) {
	prover, can := s.conn.(connector.Prover)
	if !can || s.delivering == nil || s.delivering.secret == "" {
		return rec, false
	}
	rec, err := s.account(s.ctx, s.c.Account)
	if err == nil {
		has, err = prover.Proves(s.ctx, rec, s.delivering.secret)
	}
	return rec, has && err == nil
}

// unknown is said of a secret about which no answer came: reading does not show secrets.
func (s *sender) unknown() {
	s.conclude("in-doubt", "whether the account has the new secret is not known, and it was told to nobody: settle it (twinning run settle), then reissue it")
}
