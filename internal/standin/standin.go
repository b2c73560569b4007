// Package standin is what simulated peers have in common. Each is a package below it.
package standin

import (
	"encoding/base64"
	"net/url"
	"strings"
)

// SaidBack is how an indiscreet peer says secrets back: as they are, in base64 and escaped.
func SaidBack(secrets ...string) string {
	var b strings.Builder
	for _, s := range secrets {
		b.WriteString("heard " + s + " " + base64.StdEncoding.EncodeToString([]byte(s)) + " " + url.QueryEscape(s) + " ")
	}
	return strings.TrimSpace(b.String())
}
