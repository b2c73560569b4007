package record

import (
	"fmt"

	"twinning/internal/core/budget"
)

// Oversized says of a record's native values at which of them it goes over a limit,
// and why it can't be read for that; both are blank when it keeps to all.
func Oversized(values map[string][]string) (at, fault string) {
	if int64(len(values)) > budget.Columns.Value() {
		return "", budget.Columns.Over(int64(len(values)), fmt.Sprintf("a record of %d attributes", len(values))).Error()
	}
	for name, list := range values {
		if err := budget.Key.Over(int64(len(name)), "the name of an attribute"); err != nil {
			return "", err.Error()
		}
		if err := budget.Values.Over(int64(len(list)), fmt.Sprintf("a list of %d values", len(list))); err != nil {
			return name, err.Error()
		}
	}
	return "", ""
}
