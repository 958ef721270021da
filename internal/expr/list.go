package expr

import (
	"slices"
	"strings"
)

// Elements returns the elements of a text that is a list: what stands between separators, without the blanks around it.
// An element without any other character is none. A text has one element at most if the separator is empty.
func Elements(text, separator string) []string {
	all := []string{text}
	if separator != "" {
		all = strings.Split(text, separator)
	}
	for k := range all {
		all[k] = strings.Trim(all[k], " ")
	}
	return slices.DeleteFunc(all, func(s string) bool { return s == "" })
}

// SortedList returns a list with each element once, in the order of their bytes: lists of the same members are one
// text.
func SortedList(text, separator string) string {
	all := Elements(text, separator)
	slices.Sort(all)
	return strings.Join(slices.Compact(all), separator)
}
