package source

import (
	"encoding/csv"
	"strings"
)

// Record writes values as a record of CSV, for rows that do not stand in a text.
func Record(values []string) string {
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.Write(values)
	w.Flush()
	return strings.TrimSuffix(b.String(), "\n")
}
