package scim

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"net/http"
	"net/url"
	"strconv"

	"twinning/internal/connector"
	"twinning/internal/core/budget"
	"twinning/internal/core/parallel"
	"twinning/internal/core/record"
	"twinning/internal/format/scimjson"
)

const reading = "read the list of users"

// attempts at a whole reading before pages that shift are given up on.
const attempts = 3

// Read gives the users of the scope. See the package comment.
func (a *app) Read(ctx context.Context, what connector.Reading, sink connector.Sink) (string, error) {
	offered, err := a.discover(ctx)
	if err != nil {
		return "", err
	}
	sink = connector.Clearing(sink, a.secrets()...)
	if what.Extent == connector.Sample {
		return "", a.sample(ctx, what, sink)
	}
	for attempt := 1; ; attempt++ {
		l := &listing{app: a, offered: offered, sink: sink, seed: maphash.MakeSeed(), seen: map[uint64]struct{}{}}
		err := l.all(ctx)
		var shifted *shift
		if !errors.As(err, &shifted) {
			return "", err
		}
		if attempt == attempts {
			return "", a.fault(connector.Stale, reading, fmt.Sprintf("%s, %d times in a row", shifted.reason, attempts), "a partial list is never used: try again when the application is quieter, or ask its owner")
		}
		if err := sink.Restart(); err != nil {
			return "", err
		}
	}
}

// shift is a list that changed while it was read.
type shift struct{ reason string }

func (s *shift) Error() string { return s.reason }

// listing is one way through the list. Ids are remembered by a hash of eight
// bytes: of ten million, two share one with a chance of 1 in 370,000, and then
// the list is read again.
type listing struct {
	*app
	offered    *offer
	sink       connector.Sink
	seed       maphash.Seed
	seen       map[uint64]struct{}
	got        int // resources of this pass
	emptyPages int // pages since the last with a user
	inactive   int
	again      bool // in a second pass, who was seen is passed over
}

// query is the part of a page's address that stays.
func (a *app) query(filter string) url.Values {
	q := url.Values{"count": {strconv.Itoa(a.page)}}
	if scope := a.set.Text("filter"); scope != "" && filter != "" {
		filter = "(" + scope + ") and " + filter
	} else if scope != "" {
		filter = scope
	}
	if filter != "" {
		q.Set("filter", filter)
	}
	if attributes := a.set.Text("attributes"); attributes != "" {
		q.Set("attributes", attributes)
	}
	return q
}

// all reads the list, and who is left out of it for being inactive.
func (l *listing) all(ctx context.Context) error {
	if err := l.pass(ctx, l.query("")); err != nil {
		return err
	}
	if l.set.Text("inactive") == "asked" {
		l.again = true
		return l.pass(ctx, l.query("active eq false"))
	}
	return l.missesInactive(ctx)
}

// missesInactive asks how many inactive users there are, where that can be
// asked: some applications leave them out of their list without a word.
func (l *listing) missesInactive(ctx context.Context) error {
	if !l.offered.Filter.Supported {
		return nil
	}
	q := l.query("active eq false")
	q.Set("count", "1")
	body, _, err := l.do(ctx, reading, http.MethodGet, "/Users?"+q.Encode(), nil, "")
	if err != nil {
		return nil // not every application can filter so; it is only a suspicion
	}
	page, first, err := scimjson.Decode(body)
	if err != nil || page.Total <= l.inactive || len(first) == 0 {
		return nil
	}
	if x, err := flatten(first[0]); err != nil || len(x.Values["active"]) != 1 || x.Values["active"][0] != "false" {
		return nil // the filter is ignored
	}
	return l.sink.LeftOut(connector.Left{Kind: record.Hidden, Reason: "inactive users that the list leaves out: set inactive to asked", What: fmt.Sprintf("%d users", page.Total-l.inactive)})
}

func flatten(resource any) (scimjson.Resource, error) {
	top, ok := resource.(map[string]any)
	if !ok {
		return scimjson.Resource{}, fmt.Errorf("it is not a JSON object: %.60v", resource)
	}
	return scimjson.FlattenObject(top)
}

// answer is a page that is on its way.
type answer struct {
	page      scimjson.Page
	resources []any
	err       error
}

// fetch asks for a page and decodes it.
func (l *listing) fetch(ctx context.Context, q url.Values) (x answer) {
	body, _, err := l.patient(ctx, reading, "/Users?"+q.Encode())
	if err != nil {
		return answer{err: err}
	}
	if x.page, x.resources, err = scimjson.Decode(body); err != nil {
		next := "check the setting url; it must end where /Users begins"
		if errors.Is(err, scimjson.ErrCut) {
			next = "a partial list is never used: try again, or set a smaller page"
		}
		return answer{err: l.fault(connector.Broken, reading, "the answer is not a SCIM list: "+err.Error(), next)}
	}
	return x
}

// pass reads every page of one query. By index, the next page is asked for
// while this one is worked on.
func (l *listing) pass(ctx context.Context, q url.Values) error {
	l.got = 0
	if l.byCursor() {
		return l.cursorPass(ctx, q)
	}
	q.Set("startIndex", "1")
	next := l.start(ctx, q)
	total, first, last := -1, "", ""
	for {
		x := <-next
		if x.err != nil {
			var told *connector.Error
			if total >= 0 && l.got >= total && errors.As(x.err, &told) && told.Kind == connector.Refused {
				return nil // some refuse to start behind the end
			}
			return x.err
		}
		if total < 0 && len(x.resources) > 0 {
			first = idOf(x.resources[0])
		}
		// some give the first page again to whoever asks for what is behind the end
		if l.got == total && x.page.Total == total && last == "" && first != "" && len(x.resources) > 0 && idOf(x.resources[0]) == first {
			return nil
		}
		// every page begins with the last user of the one before: a deletion and
		// an insertion that leave the total as it was still show
		if last != "" {
			if len(x.resources) == 0 || idOf(x.resources[0]) != last {
				return &shift{"a page did not begin where the one before ended: the list shifted while it was read"}
			}
			x.resources = x.resources[1:]
		}
		if len(x.resources) > 0 {
			last = idOf(x.resources[len(x.resources)-1])
			at := l.got + len(x.resources) + 1
			if last != "" && len(x.resources) > 1 { // some give one user a page, whatever is asked for
				at--
			} else {
				last = ""
			}
			q.Set("startIndex", strconv.Itoa(at))
			next = l.start(ctx, q)
		}
		if total >= 0 && x.page.Total != total && l.set.Text("totals") == "strict" {
			return &shift{fmt.Sprintf("totalResults was %d and is %d: the list shifted while it was read", total, x.page.Total)}
		}
		if total = x.page.Total; total < 0 {
			return l.fault(connector.Broken, reading, "the list does not say how many users there are (totalResults)", "ask the application's owner; or set totals to ignore")
		}
		l.sink.Expect(total)
		if err := l.take(x.resources); err != nil {
			return err
		}
		if len(x.resources) == 0 {
			return l.complete(total)
		}
	}
}

// idOf is a resource's id, "" where it has none.
func idOf(resource any) string {
	top, _ := resource.(map[string]any)
	return scimjson.ID(top)
}

// start fetches in the background; an answer that nobody waits for any more
// is dropped.
func (l *listing) start(ctx context.Context, q url.Values) chan answer {
	got := make(chan answer, 1)
	query := url.Values{}
	for k, v := range q {
		query[k] = v
	}
	go func() {
		var a answer
		if err := parallel.Try(func() error { a = l.fetch(ctx, query); return nil }); err != nil {
			a.err = err
		}
		got <- a
	}()
	return got
}

// complete holds what came against what was promised.
func (l *listing) complete(total int) error {
	if l.got == total || l.set.Text("totals") == "ignore" {
		return nil
	}
	return &shift{fmt.Sprintf("the application says it has %d users and gave %d", total, l.got)}
}

func (l *listing) byCursor() bool {
	switch l.set.Text("paging") {
	case "cursor":
		return true
	case "index":
		return false
	}
	return l.offered.Pagination.Cursor
}

func (l *listing) cursorPass(ctx context.Context, q url.Values) error {
	q.Set("cursor", "")
	total := -1
	for {
		x := l.fetch(ctx, q)
		var told *connector.Error
		if l.got > 0 && errors.As(x.err, &told) && told.Kind == connector.Refused {
			return &shift{"the application no longer takes its own cursor: " + told.Reason} // expired, RFC 9865 section 2.1
		}
		if x.err != nil {
			return x.err
		}
		if x.page.Total >= 0 {
			total = x.page.Total
			l.sink.Expect(total)
		}
		if err := l.take(x.resources); err != nil {
			return err
		}
		if x.page.NextCursor == "" {
			if total >= 0 {
				return l.complete(total)
			}
			return nil
		}
		q.Set("cursor", x.page.NextCursor)
	}
}

// take hands a page's users to the sink.
func (l *listing) take(resources []any) error {
	if l.emptyPages++; len(resources) > 0 {
		l.emptyPages = 0
	}
	if l.emptyPages > connector.MostEmptyPages {
		return l.fault(connector.Broken, reading, fmt.Sprintf("%d pages came without a user, and the application says that more are to come", l.emptyPages), "ask the application's owner; or set paging to index")
	}
	if err := budget.Records.Over(int64(l.got), "the number of users that came"); err != nil { // some of them again and again
		return err
	}
	for _, resource := range resources {
		l.got++
		x, err := flatten(resource)
		if err != nil {
			if err := l.sink.Reject(record.Rejection{ID: x.ID, Reason: err.Error()}); err != nil {
				return err
			}
			continue
		}
		key := maphash.String(l.seed, x.ID)
		if _, twice := l.seen[key]; twice {
			if l.again {
				continue
			}
			return &shift{fmt.Sprintf("user %q came twice: the list shifted while it was read", x.ID)}
		}
		l.seen[key] = struct{}{}
		if v := x.Values["active"]; len(v) == 1 && v[0] == "false" {
			l.inactive++
		}
		if err := l.sink.Record(connector.Record{ID: x.ID, Values: x.Values, Version: x.Version}); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) sample(ctx context.Context, what connector.Reading, sink connector.Sink) error {
	q := a.query("")
	q.Set("startIndex", strconv.Itoa(what.Skip+1))
	q.Set("count", strconv.Itoa(max(1, min(what.Limit, a.page))))
	l := &listing{app: a, sink: sink, seed: maphash.MakeSeed(), seen: map[uint64]struct{}{}}
	for left := what.Limit; left > 0; {
		x := l.fetch(ctx, q)
		if x.err != nil {
			return x.err
		}
		if x.page.Total >= 0 {
			sink.Expect(x.page.Total)
		}
		some := x.resources[:min(left, len(x.resources))]
		if len(some) == 0 {
			return nil
		}
		left -= len(some)
		if err := l.take(some); err != nil {
			var shifted *shift
			if errors.As(err, &shifted) {
				return a.fault(connector.Stale, "read a sample", shifted.reason, "try again")
			}
			return err
		}
		q.Set("startIndex", strconv.Itoa(what.Skip+l.got+1))
	}
	return nil
}
