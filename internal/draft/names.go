package draft

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// reserved are columns that the program adds to tables.
var reserved = map[string]bool{
	"valid_from": true, "valid_to": true, "is_current": true, "is_inferred": true, "is_gone": true, "effective_from": true,
	"effective_sequence": true, "load_run": true, "load_line": true, "sort_order": true,
}

// keywords are words that mean something else in a model or in an expression.
var keywords = map[string]bool{
	"null": true, "true": true, "false": true, "and": true, "or": true, "not": true, "in": true, "is": true,
	"like": true, "between": true, "case": true, "when": true, "then": true, "else": true, "end": true, "cast": true, "extract": true,
}

// identifier makes a name of the model of the name of a column or a file.
func identifier(name string) string {
	var b strings.Builder
	lower := true
	for _, c := range strings.TrimSpace(name) {
		switch {
		case unicode.IsLetter(c) || unicode.IsDigit(c):
			if unicode.IsUpper(c) && !lower { // the second word of twoWords
				b.WriteByte('_')
			}
			lower = unicode.IsUpper(c) || unicode.IsDigit(c)
			b.WriteRune(unicode.ToLower(c))
			continue
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "_"):
			b.WriteByte('_')
		}
		lower = true
	}
	s := strings.Trim(b.String(), "_")
	for utf8.RuneCountInString(s) > 40 {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	if s == "" {
		return "column"
	}
	if first, _ := utf8.DecodeRuneInString(s); unicode.IsDigit(first) || keywords[s] {
		s = "c_" + s
	}
	return s
}

// unlike returns a name that is not taken, and takes it.
func unlike(name string, taken map[string]bool) string {
	for n := 2; taken[name]; n++ {
		base := strings.TrimRight(name, "0123456789")
		name = fmt.Sprintf("%s%d", strings.TrimSuffix(base, "_")+"_", n)
	}
	taken[name] = true
	return name
}

// nameOf names the source of some files: by their folder, if there are several of different names in it, else by what
// their names have in common.
func nameOf(files []string) string {
	stems := map[string]bool{}
	for _, f := range files {
		stems[word(f)] = true
	}
	first := word(files[0])
	dir := path.Base(path.Dir(files[0]))
	if slices.ContainsFunc(files, func(f string) bool { return path.Dir(f) != path.Dir(files[0]) }) {
		dir = path.Base(path.Dir(path.Dir(files[0])))
	}
	if dir != "." && (len(stems) > 1 || first == "") {
		return identifier(dir)
	}
	if first == "" {
		return "rows"
	}
	return identifier(first)
}

// word is the name of a file without its endings and without digits at its end or beginning.
func word(file string) string {
	base := path.Base(file)
	for ext := path.Ext(base); ext != "" && len(ext) <= 8; ext = path.Ext(base) {
		base = strings.TrimSuffix(base, ext)
	}
	return strings.Trim(base, "0123456789-_ .()")
}

// singular is the name of one of many, as far as English tells it.
func singular(name string) string {
	for _, x := range []struct{ many, one string }{{"ies", "y"}, {"sses", "ss"}, {"shes", "sh"}, {"ches", "ch"}, {"xes", "x"}, {"oes", "o"}} {
		if s, ok := strings.CutSuffix(name, x.many); ok && len(s) > 1 {
			return s + x.one
		}
	}
	if strings.HasSuffix(name, "s") && !strings.HasSuffix(name, "ss") && !strings.HasSuffix(name, "us") && !strings.HasSuffix(name, "is") && len(name) > 3 {
		return name[:len(name)-1]
	}
	return name
}

// keyWords are words that columns have in their names which identify something.
var keyWords = []string{
	"no", "nr", "num", "number", "id", "code", "key", "reg", "ref", "reference", "sku", "isbn", "issn", "uuid", "guid", "card", "barcode",
	"ean", "upc", "iban", "vin", "plate", "serial", "registration",
}

// likeKey reports whether a name is that of something that identifies.
func likeKey(name string) bool {
	return slices.ContainsFunc(strings.Split(name, "_"), func(w string) bool { return slices.Contains(keyWords, w) })
}

// core is a name without the words that say that it identifies.
func core(name string) string {
	var words []string
	for _, w := range strings.Split(name, "_") {
		if !slices.Contains(keyWords, w) {
			words = append(words, singular(w))
		}
	}
	return strings.Join(words, "_")
}

// akin says how much the name of a column speaks for a reference to a column of a table: 3 if it is the same name, 2 if
// it ends like it or names the table, 0 if nothing speaks for it.
func akin(name string, to *table, key string) int {
	one := core(to.single)
	mine, theirs := core(name), core(key)
	switch {
	case name == key && name != "id":
		return 3
	case mine != "" && (mine == theirs || mine == one),
		theirs != "" && strings.HasSuffix(name, "_"+key), theirs != "" && strings.HasSuffix(mine, "_"+theirs),
		one != "" && (strings.HasSuffix(mine, "_"+one) || strings.HasPrefix(mine, one+"_")):
		return 2
	}
	return 0
}

// stripped is the name of a date without the words that say that it is one, for its role.
func stripped(name string) string {
	for _, end := range []string{"_on", "_at", "_date", "_day", "_time", "_datetime", "_timestamp", "_ts", "_dt"} {
		if s, ok := strings.CutSuffix(name, end); ok && s != "" {
			return s
		}
	}
	for _, begin := range []string{"date_", "day_", "time_"} {
		if s, ok := strings.CutPrefix(name, begin); ok && s != "" {
			return s
		}
	}
	return name
}
