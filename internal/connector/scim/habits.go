package scim

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"twinning/internal/connector"
	"twinning/internal/core/record"
	"twinning/internal/format/scimjson"
)

// What an application does in its own way and that a setting answers is looked for by the probe,
// in a few of its users.

// paths are the attributes of a user that we know (RFC 7643 sections 4.1 and 4.3), as a request names
// them.
var paths = func() (list []string) {
	for canonical, native := range scimjson.Names {
		object, _ := scimjson.Split(native)
		switch {
		case canonical == "id" || object == "meta": // they come with every user
			continue
		case object != "" && object != scimjson.Enterprise:
			list = append(list, object)
		default:
			list = append(list, pathOf(native))
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}()

// sampled is how many users the probe looks at for habits.
const sampled = "5"

// probeHabits tells of attributes that come on request alone, and of an application that names its
// users by another address than the one it is asked at.
func (a *app) probeHabits(ctx context.Context, tell func(connector.Step)) {
	plain := a.fewUsers(ctx, url.Values{})
	a.probeOnRequest(ctx, plain, tell)
	for id, top := range plain {
		meta, _ := top["meta"].(map[string]any)
		location, _ := meta["location"].(string)
		if at, other := a.elsewhere(id, location); other {
			tell(connector.Step{Name: "its own address", State: connector.StepWarning, Said: "it names its users by " + at + ", and is asked at " + a.base.String(),
				Means: "it stands behind a gateway; members of groups that it names by their address alone can't be told", Next: "set also-at to " + at + " if the application's owner says that both are one"})
			return
		}
	}
}

// fewUsers are some users by their ids, as a list shows them; of what can't be asked, none.
func (a *app) fewUsers(ctx context.Context, q url.Values) map[string]map[string]any {
	q.Set("startIndex", "1")
	q.Set("count", sampled)
	body, _, err := a.do(ctx, "look at a few users", http.MethodGet, "/Users?"+q.Encode(), nil, "")
	if err != nil {
		return nil
	}
	_, resources, err := scimjson.Decode(body)
	if err != nil {
		return nil
	}
	users := map[string]map[string]any{}
	for _, resource := range resources {
		if top, is := resource.(map[string]any); is && scimjson.ID(top) != "" {
			users[scimjson.ID(top)] = top
		}
	}
	return users
}

func (a *app) probeOnRequest(ctx context.Context, plain map[string]map[string]any, tell func(connector.Step)) {
	known := map[string]bool{}
	for _, top := range plain {
		for name, v := range top {
			in, object := v.(map[string]any)
			switch {
			case name == "schemas" || name == "meta" || name == "id" || record.IsSecret(name):
			case strings.HasPrefix(name, "urn:") && object:
				for sub := range in {
					known[name+":"+sub] = true
				}
			default:
				known[name] = true
			}
		}
	}
	asked := maps.Clone(known)
	for _, path := range paths {
		asked[path] = true
	}
	full := a.fewUsers(ctx, url.Values{"attributes": {strings.Join(slices.Sorted(maps.Keys(asked)), ",")}})
	shown := a.set.Text("attributes")
	var more []string
	for path := range asked {
		listed := slices.ContainsFunc(strings.Split(shown, ","), func(name string) bool {
			name = strings.TrimSpace(name)
			return strings.EqualFold(name, path) || strings.HasPrefix(strings.ToLower(path), strings.ToLower(name)+":")
		})
		if listed {
			continue
		}
		for id, top := range full {
			if was, there := plain[id]; there && a.hasAll(top, path) && !a.hasAll(was, path) {
				more = append(more, path)
				break
			}
		}
	}
	if len(more) == 0 {
		return
	}
	slices.Sort(more)
	list := slices.Concat(more, slices.Collect(maps.Keys(known)))
	for _, name := range strings.Split(shown, ",") {
		if name = strings.TrimSpace(name); name != "" {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	tell(connector.Step{Name: "on request", State: connector.StepWarning, Said: strings.Join(more, ", ") + " come only to whoever asks for them",
		Means: "rosters are without them: they look blank, and are drafted again and again", Next: "set attributes to " + strings.Join(slices.Compact(list), ",")})
}

// elsewhere is the base address by which an application names a user, where that is not one that
// we know.
func (a *app) elsewhere(id, location string) (base string, other bool) {
	at, err := url.Parse(location)
	if err != nil || at.Host == "" || at.User != nil || at.Scheme != "http" && at.Scheme != "https" {
		return "", false
	}
	if known, _ := a.resourceAt(at); known != "" {
		return "", false
	}
	path, is := strings.CutSuffix(at.EscapedPath(), "/Users/"+url.PathEscape(id))
	return fmt.Sprintf("%s://%s%s", at.Scheme, at.Host, path), is
}
