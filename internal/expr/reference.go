package expr

// Form is a form that an expression can have, for the reference.
type Form struct{ Form, Types, Nulls string }

// Reference lists all forms.
func Reference() []Form {
	forms := []Form{
		{"`7`, `12.50`, `'text'`, `true`, `null`", "integer, decimal, text (a quote inside is doubled), boolean", ""},
		{"`date '2025-03-31'`, `timestamp '2025-03-31 14:05:00'`, `time '14:05:00'`", "date, timestamp, time", ""},
		{"`name`, `\"a name\"`", "the column", ""},
		{
			"`a + b`, `a - b`, `a * b`, `-a`",
			"integers: integer; decimals: exact (rule R25); with a double: double",
			"null if either is",
		},
		{
			"`a / b`",
			"a decimal of at least 6 places; with a double: double. Division by zero is a fault",
			"null if either is",
		},
		{"`a || b`", "text", "null if either is"},
		{
			"`=`, `<>`, `!=`, `<`, `<=`, `>`, `>=`",
			"two of one type, or two numbers: boolean. Text by its bytes",
			"null if either is",
		},
		{"`a in (b, c)`, `a not in (b, c)`", "boolean", "as a = b or a = c"},
		{"`a between b and c`, `a not between b and c`", "boolean", "as a >= b and a <= c"},
		{
			"`a like b`, `a not like b`",
			"text: boolean. In b, % stands for any characters, _ for one, \\ before either for itself",
			"null if either is",
		},
		{
			"`case when a then b else c end`, `case x when a then b end`",
			"the first b whose a is true; all of one type, or numbers. Faults count only where they are reached",
			"null if no a is true and there is no else",
		},
		{"`day + 1`, `day - day`", "date and integer: date; two dates: integer, in days", "null if either is"},
		{"`at - at`", "two timestamps: decimal(18,6), in seconds", "null if either is"},
		{
			"`at + interval '3' month`",
			"date or timestamp: timestamp. Units: year, month, day, hour, minute, second; a day that the month does not have is its last",
			"null if the time is",
		},
		{
			"`extract(part from a)`",
			"year, quarter, month, day, isodow (Monday is 1), week and isoyear (ISO 8601), hour, minute: integer; second: decimal(8,6)",
			"null if a is",
		},
		{
			"`substring(a from b for c)`",
			"text: c characters from number b on, counting from 1; without c, all of them",
			"null if any is",
		},
		{"`a is null`, `a is not null`", "any: boolean", "never null"},
		{"`not a`, `a and b`, `a or b`", "boolean", "three-valued: null unless the other side decides"},
		{
			"`cast(a as type)`",
			"text to and from any type; between numbers, rounding half away from zero; between date and timestamp; boolean to integer. What does not fit is a fault",
			"null if a is",
		},
		{
			"`cast(a as date layout 'dd.MM.yyyy')`",
			"text that is written in a layout, as in the key csv of a source, to a date, a timestamp or a time. Names of months are English",
			"null if a is",
		},
	}
	for _, name := range FunctionNames() {
		f := functions[name]
		nulls := "null if the value is"
		switch name {
		case "lpad", "ltrim", "rtrim":
			nulls = "null if the text is"
		case "coalesce", "least", "greatest":
			nulls = "null if all are"
		case "split_part", "replace", "strpos", "left", "right", "make_date", "sorted_list":
			nulls = "null if any is"
		case "concat":
			nulls = "never null"
		case "regexp_substr", "regexp_replace":
			nulls = "null if the text is"
		case "mod":
			nulls = "null if either is"
		case "nullif":
			nulls = "null if a is, or a = b"
		}
		forms = append(forms, Form{"`" + f.form + "`", f.doc, nulls})
	}
	return forms
}
