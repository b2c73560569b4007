package scim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/format/scimjson"
)

type bulkOperation struct {
	Method  string          `json:"method"`
	ID      string          `json:"bulkId,omitempty"`
	Version string          `json:"version,omitempty"`
	Path    string          `json:"path"`
	Data    json.RawMessage `json:"data,omitempty"`
}

type bulkResult struct {
	ID       string          `json:"bulkId"`
	Location string          `json:"location"`
	Status   json.RawMessage `json:"status"` // a text by the standard, a number or an object elsewhere
	Response json.RawMessage `json:"response"`
}

// WriteAll sends many writes in as few requests as the application allows
// (RFC 7644 section 3.7), and tells of each what became of it. Where bulk is
// not offered it is an *Error of kind Unsupported and nothing was sent.
func (a *app) WriteAll(ctx context.Context, writes []connector.Write) ([]connector.Written, error) {
	o, err := a.discover(ctx)
	if err != nil {
		return nil, err
	}
	if !o.Bulk.Supported || o.Bulk.MaxOperations < 1 {
		return nil, a.fault(connector.Unsupported, "write in bulk", "the application does not offer it", "write one by one")
	}
	out := make([]connector.Written, len(writes))
	var batch []bulkOperation
	var places []int
	size := 0
	flush := func() {
		if len(batch) > 0 {
			a.bulk(ctx, batch, places, out)
		}
		batch, places, size = nil, nil, 0
	}
	for i, w := range writes {
		op, err := a.bulkOperation(i, w)
		if err != nil {
			out[i].Err = err
			continue
		}
		const frame = 200 // of one operation around its data
		if len(batch) == o.Bulk.MaxOperations || o.Bulk.MaxPayloadSize > 0 && size+len(op.Data)+frame > o.Bulk.MaxPayloadSize {
			flush()
		}
		batch, places, size = append(batch, op), append(places, i), size+len(op.Data)+frame
	}
	flush()
	return out, nil
}

func (a *app) bulkOperation(i int, w connector.Write) (op bulkOperation, err error) {
	op.ID = strconv.Itoa(i)
	if w.Record == nil {
		user := map[string]any{"schemas": []string{scimjson.User}, "active": true}
		if err := merge(user, w.Edits); err != nil {
			return op, a.fault(connector.Refused, "create a user", err.Error(), "")
		}
		op.Method, op.Path = http.MethodPost, "/Users"
		op.Data, err = json.Marshal(user)
		return op, err
	}
	var top map[string]any
	if err := scimjson.Unmarshal(w.Record.Raw, &top); err != nil {
		return op, a.fault(connector.Broken, "change user "+w.Record.ID, err.Error(), "")
	}
	if err := merge(top, w.Edits); err != nil {
		return op, a.fault(connector.Refused, "change user "+w.Record.ID, err.Error(), "")
	}
	op.Method, op.Path, op.Version = http.MethodPatch, "/Users/"+url.PathEscape(w.Record.ID), w.Record.Version
	op.Data, err = patchBody(a.dialects[a.dialect.Load()].say(operations(top, w.Edits)))
	return op, err
}

// bulk sends one request. Whatever has no answer of its own is unanswered: it
// may have been done.
func (a *app) bulk(ctx context.Context, batch []bulkOperation, places []int, out []connector.Written) {
	doing := fmt.Sprintf("write %d users in bulk", len(batch))
	body, err := json.Marshal(map[string]any{"schemas": []string{scimjson.BulkRequest}, "Operations": batch})
	var answer []byte
	if err == nil {
		answer, _, err = a.do(ctx, doing, http.MethodPost, "/Bulk", body, "")
	}
	var told struct{ Operations []bulkResult }
	if err == nil {
		if e := json.Unmarshal(answer, &told); e != nil {
			err = a.fault(connector.Unanswered, doing, "the answer can't be understood: "+e.Error(), "")
		}
	}
	for k, i := range places {
		out[i].Err = err
		if err == nil {
			out[i].Err = a.fault(connector.Unanswered, doing, "the answer says nothing of this one", "")
		}
		for _, r := range told.Operations {
			if r.ID == batch[k].ID {
				out[i].ID, out[i].Err = a.became(doing, r)
			}
		}
	}
}

// became reads one operation's result.
func (a *app) became(doing string, r bulkResult) (id string, err error) {
	text := strings.Trim(string(r.Status), `"`)
	var object struct{ Code json.RawMessage }
	if json.Unmarshal(r.Status, &object) == nil && object.Code != nil {
		text = strings.Trim(string(object.Code), `"`)
	}
	code, err := strconv.Atoi(text)
	if err != nil {
		return "", a.fault(connector.Unanswered, doing, "its status can't be understood", "")
	}
	if code >= 200 && code < 300 {
		at, err := url.Parse(r.Location)
		if err != nil {
			return "", a.fault(connector.Unanswered, doing, "its location can't be understood", "")
		}
		return at.Path[strings.LastIndex(at.Path, "/")+1:], nil
	}
	return "", a.status(doing, http.MethodPost, &http.Response{StatusCode: code, Header: http.Header{}}, r.Response)
}
