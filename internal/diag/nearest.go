package diag

import "strings"

// Nearest returns the name among names that word most likely meant, or "" if none is close: the least
// edit distance (with swapped neighbours as one edit), at most a third of the word's length, or one.
func Nearest(word string, names []string) string {
	best, least := "", max(1, len(word)/3)+1
	for _, name := range names {
		if strings.EqualFold(word, name) {
			return name
		}
		if d := distance(strings.ToLower(word), strings.ToLower(name)); d < least && d < len(word) {
			best, least = name, d
		}
	}
	return best
}

// Suggest returns " (did you mean NAME?)" for the nearest name, or the choices if there are few, or "".
func Suggest(word string, names []string) string {
	if near := Nearest(word, names); near != "" {
		return " (did you mean " + near + "?)"
	}
	if len(names) > 0 && len(names) <= 12 {
		return " (there is: " + strings.Join(names, ", ") + ")"
	}
	return ""
}

func distance(a, b string) int {
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
