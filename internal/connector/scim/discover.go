package scim

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"twinning/internal/connector"
)

// offer is what an application says that it has (RFC 7643 section 5, RFC 9865
// section 2.4).
type offer struct {
	known bool // it did say
	Patch supported
	Bulk  struct {
		supported
		MaxOperations  int `json:"maxOperations"`
		MaxPayloadSize int `json:"maxPayloadSize"`
	}
	Filter         supported
	Sort           supported
	ETag           supported `json:"etag"`
	ChangePassword supported
	Pagination     struct {
		Cursor bool `json:"cursor"`
		Index  bool `json:"index"`
	}
}

type supported struct {
	Supported bool `json:"supported"`
}

// discover asks once. An application that does not answer the question is
// taken for one that does what most do: PATCH and simple filters.
func (a *app) discover(ctx context.Context) (*offer, error) {
	a.offerMu.Lock()
	defer a.offerMu.Unlock()
	if a.offered != nil {
		return a.offered, nil
	}
	body, _, err := a.patient(ctx, "ask what the application offers", "/ServiceProviderConfig")
	o := &offer{Patch: supported{true}, Filter: supported{true}}
	switch connector.KindOf(err) {
	case connector.Denied, connector.Forbidden, connector.Unreachable, connector.Unanswered, connector.Throttled:
		if err != nil {
			return nil, err
		}
	}
	if err == nil {
		said := &offer{}
		if json.Unmarshal(body, said) == nil && strings.Contains(string(body), "patch") {
			said.known = true
			o = said
		}
	}
	a.offered = o
	return o, nil
}

// puts reports whether changes go by PUT.
func (a *app) puts(ctx context.Context) (bool, error) {
	switch a.set.Text("method") {
	case "put":
		return true, nil
	case "patch":
		return false, nil
	}
	o, err := a.discover(ctx)
	if err != nil {
		return false, err
	}
	return o.known && !o.Patch.Supported || a.noPatch.Load(), nil
}

// firstPatch is the refusal of a PATCH by an application that does not say what it offers and has
// taken none yet; nil where err is anything else.
func (a *app) firstPatch(err error) *refusal {
	var told *refusal
	if a.set.Text("method") != "auto" || a.confirmed.Load() || !errors.As(err, &told) {
		return nil
	}
	a.offerMu.Lock()
	defer a.offerMu.Unlock()
	if a.offered != nil && a.offered.known {
		return nil
	}
	return told
}

// patchless reports whether a first PATCH was answered by knowing none: changes go by PUT from then
// on, as far as that is safe.
func (a *app) patchless(err error) bool {
	told := a.firstPatch(err)
	if told == nil || told.status != http.StatusNotImplemented && told.status != http.StatusMethodNotAllowed {
		return false
	}
	a.noPatch.Store(true)
	return true
}

// mayBePatchless reports whether a first PATCH was answered by 400, however it was said: the
// application may know none, or not like what is written.
func (a *app) mayBePatchless(err error) bool {
	told := a.firstPatch(err)
	return told != nil && told.status == http.StatusBadRequest && told.scimType == ""
}

// orPut does by PUT what was refused by PATCH, where the application may know no PATCH; if that is
// refused as well, the first answer stands, with the setting that would tell.
func (a *app) orPut(refused error, put func() error) error {
	if !a.mayBePatchless(refused) {
		return refused
	}
	err := put()
	var told *connector.Error
	switch kind := connector.KindOf(err); {
	case err == nil:
		a.noPatch.Store(true)
		return nil
	case kind != connector.Refused && kind != connector.Unsupported:
		return err // it may have been done
	case errors.As(refused, &told) && told.Next == "":
		told.Next = "change what gives the value; or, if the application knows no PATCH, set method to put (and put-without-etag, if it gives no ETag)"
	}
	return refused
}

// Probe goes from the name to what may be written, and stops at what fails.
func (a *app) Probe(ctx context.Context, tell func(connector.Step)) {
	tell = connector.Discreet(tell, a.secrets)
	var encrypted *tls.Config
	if a.base.Scheme == "https" {
		encrypted = tlsOf(a.client)
	}
	if !connector.Reach(ctx, a.cfg.Outbound, hostPort(a.base), encrypted, a.timeout, tell) {
		return
	}
	if a.base.Scheme == "http" {
		tell(connector.Step{Name: "tls", State: connector.StepWarning, Said: "the connection is not encrypted", Means: "whoever is between can read what is read, and the secret", Next: "set url to an https:// address"})
	}
	step := func(name, doing, path string, said func([]byte, http.Header) (string, error)) bool {
		body, header, err := a.do(ctx, doing, http.MethodGet, path, nil, "")
		text := ""
		if err == nil {
			text, err = said(body, header)
		}
		if err != nil {
			tell(connector.FailedStep(name, err))
			return false
		}
		tell(connector.Step{Name: name, State: connector.StepOK, Said: text})
		return true
	}
	ok := a.probeToken(ctx, tell) && step("sign in", "sign in", "/Users?startIndex=1&count=1", func(_ []byte, header http.Header) (string, error) {
		a.probeClock(header, tell)
		return "the secret is accepted", nil
	})
	if !ok {
		return
	}
	offered, err := a.discover(ctx)
	if err != nil {
		tell(connector.FailedStep("what it offers", err))
		return
	}
	tell(offered.step())
	if step("read one", "read one user", "/Users?startIndex=1&count=1", a.probeOne) && step("a page", reading, fmt.Sprintf("/Users?startIndex=1&count=%d", a.page), a.probePage) {
		a.probeHabits(ctx, tell)
		tell(connector.Step{Name: "writing", State: connector.StepOK, Said: "is tried only when a plan is run",
			Means: "for a system that is open for writing, the secret needs the right to create and change users"})
	}
}

func (o *offer) step() connector.Step {
	if !o.known {
		return connector.Step{Name: "what it offers", State: connector.StepWarning, Said: "it does not say (/ServiceProviderConfig)", Means: "PATCH and filters are assumed; the first change shows whether that is right", Next: "ask the application's owner what it supports, and set method and paging"}
	}
	var has, lacks []string
	for _, x := range []struct {
		name string
		has  bool
	}{{"PATCH", o.Patch.Supported}, {"filters", o.Filter.Supported}, {"sorting", o.Sort.Supported}, {"ETags", o.ETag.Supported}, {"bulk", o.Bulk.Supported}, {"cursors", o.Pagination.Cursor}} {
		if x.has {
			has = append(has, x.name)
		} else {
			lacks = append(lacks, x.name)
		}
	}
	s := connector.Step{Name: "what it offers", State: connector.StepOK, Said: strings.Join(has, ", ")}
	if len(lacks) > 0 {
		s.Said += "; not " + strings.Join(lacks, ", ")
	}
	if !o.Patch.Supported && !o.ETag.Supported {
		s.State, s.Means = connector.StepWarning, "changes go by PUT, and nothing guards against undoing somebody else's"
		s.Next = "ask the application's owner for ETags; or set put-without-etag to yes and take the risk"
	}
	return s
}
