package survey

import (
	"bytes"
	"slices"
	"strings"

	"github.com/tidwall/gjson"

	"ironmonger/internal/source"
)

// inLines reports whether the first object of a text is a line.
func inLines(text []byte) bool {
	line, _, _ := bytes.Cut(text, []byte{'\n'})
	return gjson.ValidBytes(line)
}

// deepest is how many objects within each other are looked into.
const deepest = 20

// pathsOf lists the paths of the values in JSON objects, a line each, in the order in which they are met, and those of
// the lists among them.
func pathsOf(text []byte, whole bool) (paths, lists []string) {
	if !whole {
		text = text[:bytes.LastIndexByte(text, '\n')+1]
	}
	add := func(list *[]string, path string) {
		if !slices.Contains(*list, path) {
			*list = append(*list, path)
		}
	}
	var walk func(prefix string, object gjson.Result, depth int)
	walk = func(prefix string, object gjson.Result, depth int) {
		object.ForEach(func(name, value gjson.Result) bool {
			path := prefix + strings.NewReplacer(`\`, `\\`, `.`, `\.`).Replace(name.Str)
			if name.Str == source.ElementText && prefix != "" { // of an element that has attributes: its path has it
				path = strings.TrimSuffix(prefix, ".")
			}
			switch {
			case value.IsObject() && depth < deepest:
				walk(path+".", value, depth+1)
			case value.IsObject():
			case value.IsArray():
				add(&lists, path)
			case value.Type != gjson.Null || prefix == "":
				add(&paths, path)
			}
			return true
		})
	}
	for line := range bytes.Lines(text) {
		if line = bytes.TrimSpace(line); gjson.ValidBytes(line) && len(line) > 0 {
			walk("", gjson.ParseBytes(line), 0)
		}
	}
	paths = slices.DeleteFunc(paths, func(p string) bool { // an object or a list in other rows
		return slices.ContainsFunc(lists, func(l string) bool { return p == l || strings.HasPrefix(p, l+".") }) || slices.ContainsFunc(paths, func(o string) bool { return strings.HasPrefix(o, p+".") && !strings.HasPrefix(o, p+".@") })
	})
	return paths, lists
}
