// Package scimapp is a simulated application that speaks SCIM 2.0, for the demo
// and the tests. Routing, schemas, filters and PATCH parsing are a public SCIM
// server library's; the application keeps its users in a file, counts the
// effects of every request, and can be told to misbehave.
package scimapp

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/elimity-com/scim"
	"github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"
)

// Misbehaviour is what the application does wrong. Every-N counts writes.
type Misbehaviour struct {
	SlowMillis    int    `json:"slowMillis,omitempty"`    // before every answer
	ThrottleEvery int    `json:"throttleEvery,omitempty"` // every Nth request is answered 429
	RefuseUser    string `json:"refuseUser,omitempty"`    // writes on this userName are answered 400
	RefuseAll     bool   `json:"refuseAll,omitempty"`     // every write is answered 403
	FailEvery     int    `json:"failEvery,omitempty"`     // every Nth request is answered 500, and nothing is done
	DropEvery     int    `json:"dropEvery,omitempty"`     // after every Nth write the connection is cut instead of answered
	TitleLimit    int    `json:"titleLimit,omitempty"`    // longer titles are cut to so many characters
	LagMillis     int    `json:"lagMillis,omitempty"`     // writes show in reading only after this time
	NoETag        bool   `json:"noETag,omitempty"`
	Silent        bool   `json:"silent,omitempty"`      // PATCH is answered 204 without a body
	EmptyGroups   bool   `json:"emptyGroups,omitempty"` // the members of a new group are forgotten
	RefMembers    bool   `json:"refMembers,omitempty"`  // members of groups are said by their address alone
	Gateway       string `json:"gateway,omitempty"`     // users, and such members, are named below this base address
	// of lists
	RepeatPage   bool `json:"repeatPage,omitempty"`   // every page but the first gives the first again
	SkipUsers    bool `json:"skipUsers,omitempty"`    // every page but the first leaves a user out
	TotalOff     int  `json:"totalOff,omitempty"`     // totalResults is wrong by so much
	HideInactive bool `json:"hideInactive,omitempty"` // lists leave out inactive users, unless a filter asks for them
	// of answers to GET
	CutJSON      bool `json:"cutJSON,omitempty"`      // the text ends in the middle
	ResetPage    bool `json:"resetPage,omitempty"`    // the connection is cut in the middle
	HTML         bool `json:"html,omitempty"`         // a sign-in page comes instead
	ClockMinutes int  `json:"clockMinutes,omitempty"` // the Date header is off by so much
	RetryDate    bool `json:"retryDate,omitempty"`    // Retry-After is a date
	// of abilities
	NoPatch    bool   `json:"noPatch,omitempty"`    // PATCH is not offered
	PatchIs    int    `json:"patchIs,omitempty"`    // and answered so; 501 when it is not given
	NoDiscover bool   `json:"noDiscover,omitempty"` // /ServiceProviderConfig is not there
	Cursor     bool   `json:"cursor,omitempty"`     // pages by cursor are offered
	OldCursor  bool   `json:"oldCursor,omitempty"`  // and expire after the first
	Wants      string `json:"wants,omitempty"`      // dialect of PATCH that alone is taken: title-case, no-path
	BulkStops  int    `json:"bulkStops,omitempty"`  // a bulk request is given up after so many operations, without a word of the others
	// of another mind
	NoPut         bool   `json:"noPut,omitempty"`         // PUT is not offered
	TypesRequired bool   `json:"typesRequired,omitempty"` // every e-mail address carries a type, and each type is there once
	EqOnly        bool   `json:"eqOnly,omitempty"`        // filters are one comparison by eq, and nothing else
	PageMost      int    `json:"pageMost,omitempty"`      // a page holds no more, whatever is asked for
	JSONNumbers   bool   `json:"jsonNumbers,omitempty"`   // ids are said as JSON numbers of many digits
	NumberIDs     bool   `json:"numberIDs,omitempty"`     // ids look like numbers, zeros in front
	OnRequest     string `json:"onRequest,omitempty"`     // this attribute is said only to whoever asks for it
	// of ill will
	SayBack    bool   `json:"sayBack,omitempty"`    // answers carry the token and new passwords, in several forms
	AnswerID   string `json:"answerID,omitempty"`   // answers to writes are about the user of this id
	AnswerMark string `json:"answerMark,omitempty"` // answers to writes carry this externalId
	GetAnother bool   `json:"getAnother,omitempty"` // whoever asks for a user, or a group, is given the next one
	MixEvery   int    `json:"mixEvery,omitempty"`   // every Nth who asks for one user is given another
	Endless    bool   `json:"endless,omitempty"`    // lists go on for ever
}

// Another is an application of another mind than ours: strict about types, shy of
// filters, slow to show, silent when it is changed, and taking one method alone.
func Another(method string) Misbehaviour {
	return Misbehaviour{NoPatch: method == http.MethodPut, NoPut: method == http.MethodPatch, NoDiscover: method == http.MethodPatch, TypesRequired: true, EqOnly: true, PageMost: 10, NumberIDs: true, Silent: true, LagMillis: 300}
}

// Effects counts what requests have done.
type Effects struct {
	Creates   int                       `json:"creates"`
	Changes   int                       `json:"changes"`
	Deletes   int                       `json:"deletes"`
	Reads     int                       `json:"reads"`
	ByAccount map[string]map[string]int `json:"byAccount"` // userName at the time -> "create", "change:attribute" -> times
}

type user struct {
	ID         string         `json:"id"`
	ExternalID string         `json:"externalId,omitempty"`
	Attributes map[string]any `json:"attributes"`
	Version    int            `json:"version"`
	Created    time.Time      `json:"created"`
	// what readers see until Visible
	Visible time.Time `json:"-"`
	Before  *user     `json:"-"`
}

// App is the application. It is an http.Handler: SCIM below /scim/v2, its
// controls below /standin.
type App struct {
	mu       sync.Mutex
	file     string
	token    string
	users    map[string]*user
	next     int
	effects  Effects
	wrong    Misbehaviour
	requests int
	writes   int
	dirty    bool
	groups   map[string]*group
	issued   map[string]bool // tokens that were given
	heard    []string        // secrets, for answers that say them back
	asked    int             // for one user, while answers are mixed up
	inner    http.Handler    // the library's server
}

type state struct {
	Next    int      `json:"next"`
	Users   []*user  `json:"users"`
	Groups  []*group `json:"groups,omitempty"`
	Effects Effects  `json:"effects"`
}

// New opens the application whose state is in file; a missing file is an empty
// application. Requests must carry the token.
func New(file, token string) (*App, error) {
	a := &App{file: file, token: token, users: map[string]*user{}, groups: map[string]*group{}, effects: Effects{ByAccount: map[string]map[string]int{}}}
	if src, err := os.ReadFile(file); err == nil {
		var s state
		if err := json.Unmarshal(src, &s); err != nil {
			return nil, fmt.Errorf("the stand-in's state %q is damaged: %w", file, err)
		}
		for _, u := range s.Users {
			a.users[u.ID] = u
		}
		for _, g := range s.Groups {
			a.groups[g.ID] = g
		}
		a.next, a.effects = s.Next, s.Effects
		if a.effects.ByAccount == nil {
			a.effects.ByAccount = map[string]map[string]int{}
		}
	} else if !os.IsNotExist(err) {
		return nil, err
	}
	server, err := scim.NewServer(&scim.ServerArgs{
		ServiceProviderConfig: &scim.ServiceProviderConfig{MaxResults: 200, SupportFiltering: true, SupportPatch: true},
		ResourceTypes: []scim.ResourceType{{
			ID: optional.NewString("User"), Name: "User", Endpoint: "/Users", Schema: schema.CoreUserSchema(),
			SchemaExtensions: []scim.SchemaExtension{{Schema: schema.ExtensionEnterpriseUser()}, {Schema: observer}}, Handler: (*handler)(a),
		}, {
			ID: optional.NewString("Group"), Name: "Group", Endpoint: "/Groups", Schema: schema.CoreGroupSchema(), Handler: (*groupHandler)(a),
		}},
	})
	if err != nil {
		return nil, err
	}
	a.inner = server
	return a, nil
}

// Misbehave sets what the application does wrong from now on.
func (a *App) Misbehave(m Misbehaviour) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.wrong = m
}

// Effects tells what has been done so far.
func (a *App) Effects() Effects {
	a.mu.Lock()
	defer a.mu.Unlock()
	e := a.effects
	e.ByAccount = map[string]map[string]int{}
	for k, v := range a.effects.ByAccount {
		e.ByAccount[k] = maps.Clone(v)
	}
	return e
}

// Users lists all as SCIM attributes with id, in the order of their making.
func (a *App) Users() []map[string]any {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := make([]map[string]any, 0, len(a.users))
	for _, u := range a.sorted() {
		m := maps.Clone(u.Attributes)
		m["id"], m["externalId"] = u.ID, u.ExternalID
		out = append(out, m)
	}
	return out
}

// Put seeds or changes a user behind everybody's back, without counting it.
func (a *App) Put(attributes map[string]any) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	attributes = maps.Clone(attributes)
	id, _ := attributes["id"].(string)
	external, _ := attributes["externalId"].(string)
	delete(attributes, "id")
	delete(attributes, "externalId")
	u := a.users[id]
	if u == nil {
		if id == "" {
			id = a.newID()
		}
		u = &user{ID: id, Created: time.Now().UTC(), Attributes: map[string]any{}}
		a.users[id] = u
	}
	if external != "" {
		u.ExternalID = external
	}
	maps.Copy(u.Attributes, attributes)
	u.Version++
	a.save()
	return id
}

func (a *App) newID() string {
	for {
		a.next++
		form := "n%05d"
		switch {
		case a.wrong.NumberIDs:
			form = "%06d"
		case a.wrong.JSONNumbers:
			form = "9007199254740993%03d"
		}
		if id := fmt.Sprintf(form, a.next); a.users[id] == nil {
			return id
		}
	}
}

// Remove deletes a user behind everybody's back, without counting it.
func (a *App) Remove(id string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.users, id)
	a.save()
}

func (a *App) sorted() []*user {
	list := slices.Collect(maps.Values(a.users))
	slices.SortFunc(list, func(x, y *user) int { return strings.Compare(x.ID, y.ID) })
	return list
}

// savePause gathers the writes of a moment into one file.
const savePause = 200 * time.Millisecond

// save has the state kept soon; many changes in a row cost one file.
func (a *App) save() {
	if a.file == "" || a.dirty {
		return
	}
	a.dirty = true
	time.AfterFunc(savePause, a.Flush)
}

// Flush keeps the state now; the file is replaced as a whole.
func (a *App) Flush() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.dirty {
		return
	}
	a.dirty = false
	src, err := json.Marshal(state{a.next, a.sorted(), slices.Collect(maps.Values(a.groups)), a.effects})
	if err == nil {
		tmp := a.file + ".new"
		if err = os.MkdirAll(filepath.Dir(a.file), 0o750); err == nil {
			if err = os.WriteFile(tmp, src, 0o600); err == nil {
				err = os.Rename(tmp, a.file)
			}
		}
	}
	if err != nil && !os.IsNotExist(err) { // the folder of a finished test is gone
		panic("the stand-in can't keep its state: " + err.Error())
	}
}

func (a *App) count(name, effect string) {
	if a.effects.ByAccount[name] == nil {
		a.effects.ByAccount[name] = map[string]int{}
	}
	a.effects.ByAccount[name][effect]++
}

// ServeHTTP answers one request, after whatever misbehaviour is asked for.
func (a *App) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/standin/") {
		a.control(w, r)
		return
	}
	if !a.known(r) {
		refuse(w, errors.ScimError{Status: http.StatusUnauthorized, Detail: "the token is not known here"})
		return
	}
	a.mu.Lock()
	wrong := a.wrong
	a.requests++
	throttled := wrong.ThrottleEvery > 0 && a.requests%wrong.ThrottleEvery == 0
	failed := !throttled && wrong.FailEvery > 0 && a.requests%wrong.FailEvery == 0
	write := r.Method != http.MethodGet
	drop := false
	if write && !throttled && !failed {
		a.writes++
		drop = wrong.DropEvery > 0 && a.writes%wrong.DropEvery == 0
	}
	a.mu.Unlock()
	time.Sleep(time.Duration(wrong.SlowMillis) * time.Millisecond)
	switch {
	case throttled:
		w.Header().Set("Retry-After", "0")
		if wrong.RetryDate {
			w.Header().Set("Retry-After", time.Now().UTC().Format(http.TimeFormat))
		}
		refuse(w, errors.ScimError{Status: http.StatusTooManyRequests, Detail: "too many requests"})
	case failed:
		refuse(w, errors.ScimError{Status: http.StatusInternalServerError, Detail: "something went wrong"})
	case write && wrong.RefuseAll:
		refuse(w, errors.ScimError{Status: http.StatusForbidden, Detail: "this token may only read"})
	case drop:
		a.below(wrong).ServeHTTP(discard{http.Header{}}, r)
		panic(http.ErrAbortHandler) // the work is done, the answer is lost
	default:
		a.hostile(w, r, wrong, a.below(wrong))
	}
}

func (a *App) below(wrong Misbehaviour) http.Handler {
	return http.StripPrefix("/scim", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { a.protocol(w, r, wrong) }))
}

type discard struct{ h http.Header }

func (d discard) Header() http.Header         { return d.h }
func (d discard) Write(b []byte) (int, error) { return len(b), nil }
func (d discard) WriteHeader(int)             {}

func refuse(w http.ResponseWriter, e errors.ScimError) {
	w.Header().Set("Content-Type", "application/scim+json")
	w.WriteHeader(e.Status)
	told := map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:Error"}, "status": strconv.Itoa(e.Status), "detail": e.Detail}
	if e.ScimType != "" {
		told["scimType"] = e.ScimType
	}
	_ = json.NewEncoder(w).Encode(told)
}

// control answers /standin/effects, /standin/users and /standin/misbehave.
func (a *App) control(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/standin/effects":
		_ = json.NewEncoder(w).Encode(a.Effects())
	case r.URL.Path == "/standin/token" && r.Method == http.MethodPost:
		a.issue(w, r)
	case r.URL.Path == "/standin/revoke" && r.Method == http.MethodPost:
		a.Revoke()
	case r.URL.Path == "/standin/users" && r.Method == http.MethodGet:
		_ = json.NewEncoder(w).Encode(a.Users())
	case r.URL.Path == "/standin/users" && r.Method == http.MethodPut:
		var list []map[string]any
		if err := json.NewDecoder(r.Body).Decode(&list); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		for _, u := range list {
			a.Put(u)
		}
	case r.URL.Path == "/standin/misbehave" && r.Method == http.MethodPut:
		var m Misbehaviour
		if err := json.NewDecoder(r.Body).Decode(&m); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		a.Misbehave(m)
	default:
		http.NotFound(w, r)
	}
}
