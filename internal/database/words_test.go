package database

import (
	"fmt"
	"testing"
)

func TestWords(t *testing.T) {
	for text, want := range map[string]string{
		"host=a  user = x":                    "map[host:a user:x]",
		"password='it\\'s a \\\\ day' user=x": "map[password:it's a \\ day user:x]",
		"host=":                               "map[host:]",
		"":                                    "map[]",
		"a=b\\ c d=e":                         "map[a:b c d:e]",
	} {
		if got, err := words(text); err != nil || fmt.Sprint(got) != want {
			t.Errorf("%q: %v, %v; want %s", text, got, err, want)
		}
	}
	for _, text := range []string{"host", "host a=b", "a='b"} {
		if got, err := words(text); err == nil {
			t.Errorf("%q: %v", text, got)
		}
	}
}
