package trino

import (
	"fmt"
	"strings"

	"ironmonger/internal/column"
)

// quote makes a name into SQL. It is the only way a name gets there.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func quoteAll(names []string, format string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = strings.ReplaceAll(format, "%", quote(n))
	}
	return strings.Join(quoted, ", ")
}

// text writes a text as a literal.
func text(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// equal returns the conditions that columns of the table t are those of m.
func equal(names []string, from int) string {
	parts := make([]string, len(names))
	for k, n := range names {
		parts[k] = fmt.Sprintf("t.%s = m.c%d", quote(n), from+k)
	}
	return strings.Join(parts, " AND ")
}

// literal writes value i of a column.
func literal(c *column.Column, i int) string {
	if c.Null[i] {
		return "NULL"
	}
	v := c.Value(i)
	switch c.Type.Kind {
	case column.Integer, column.Boolean:
		return v
	case column.Text:
		return text(v)
	case column.Double:
		return "DOUBLE " + text(v)
	case column.Decimal:
		return "DECIMAL " + text(v)
	case column.Timestamp:
		return "TIMESTAMP " + text(v)
	}
	return strings.ToUpper(c.Type.String()) + " " + text(v)
}

// said asks for a value as it is read: whole numbers and texts as they are, all else as text.
func said(value string, t column.Type) string {
	switch t.Kind {
	case column.Integer, column.Text:
		return value
	}
	return "CAST(" + value + " AS varchar)"
}
