package expr

// Form is a form that an expression can have, for the reference.
type Form struct{ Form, Types, Nulls string }

// Reference lists all forms.
func Reference() []Form {
	forms := []Form{
		{"`7`, `12.50`, `'text'`, `true`, `null`", "integer, decimal, text (a quote inside is doubled), boolean", ""},
		{"`date '2025-03-31'`, `timestamp '2025-03-31 14:05:00'`, `time '14:05:00'`", "date, timestamp, time", ""},
		{"`name`, `\"a name\"`", "the column", ""},
		{"`a + b`, `a - b`, `a * b`, `-a`", "integers: integer; decimals: exact (rule R25); with a double: double", "null if either is"},
		{"`a / b`", "a decimal of at least 6 places; with a double: double. Division by zero is a fault", "null if either is"},
		{"`a || b`", "text", "null if either is"},
		{"`=`, `<>`, `!=`, `<`, `<=`, `>`, `>=`", "two of one type, or two numbers: boolean. Text by its bytes", "null if either is"},
		{"`a in (b, c)`, `a not in (b, c)`", "boolean", "as a = b or a = c"},
		{"`a is null`, `a is not null`", "any: boolean", "never null"},
		{"`not a`, `a and b`, `a or b`", "boolean", "three-valued: null unless the other side decides"},
		{"`cast(a as type)`", "text to and from any type; between numbers, rounding half away from zero; between date and timestamp; boolean to integer. What doesn't fit is a fault", "null if a is"},
	}
	for _, name := range FunctionNames() {
		f := functions[name]
		nulls := "null if the value is"
		if name == "coalesce" {
			nulls = "null if all are"
		}
		forms = append(forms, Form{"`" + f.form + "`", f.doc, nulls})
	}
	return forms
}
