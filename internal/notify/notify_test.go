package notify_test

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/notify"
	"ironmonger/internal/star"
)

// TestSend: whoever is meant is told, once more if a service is busy; what cannot be told is said without the URL.
func TestSend(t *testing.T) {
	var got []string
	answers := []int{}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		got = append(got, r.Method+" "+r.Header.Get("Content-Type")+" "+string(text))
		status := http.StatusNoContent
		if len(answers) > 0 {
			status, answers = answers[0], answers[1:]
		}
		if status == 0 {
			time.Sleep(500 * time.Millisecond)
			return
		}
		http.Error(w, "so it is", status)
	}))
	defer service.Close()
	dir := t.TempDir()
	script := "#!/bin/sh\necho \"$1\" >> told\ncat >> told\n[ \"$1\" != bad ] || exit 3\n[ \"$1\" != slow ] || sleep 5\n"
	if err := os.WriteFile(filepath.Join(dir, "tell.sh"), []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	hook := &star.Notice{Name: star.Name{Text: "hook"}, When: []string{"failed", "broken"}, Post: service.URL + "/secret-path"}
	program := func(word string) *star.Notice {
		return &star.Notice{Name: star.Name{Text: word}, When: []string{"done"}, Command: []string{"./tell.sh", word}}
	}
	for _, c := range []struct {
		notice  *star.Notice
		end     string
		answers []int
		posted  int
		said    string
	}{
		{hook, "failed", nil, 1, ""},
		{hook, "done", nil, 0, ""},
		{hook, "broken", []int{503, 429, 204}, 3, ""},
		{hook, "broken", []int{500, 500, 500}, 3, "notify hook: the answer is 500 Internal Server Error: so it is (tried 3 times)\n"},
		{hook, "broken", []int{403}, 1, "notify hook: the answer is 403 Forbidden: so it is\n"},
		{hook, "broken", []int{0, 204}, 2, ""},
		{&star.Notice{Name: star.Name{Text: "gone"}, When: []string{"failed"}, Post: "http://127.0.0.1:1/secret-path"}, "failed", nil, 0, "connection refused (tried 3 times)\n"},
		{program("good"), "done", nil, 0, ""},
		{program("good"), "failed", nil, 0, ""},
		{program("bad"), "done", nil, 0, "notify bad: exit status 3\n"},
		{program("slow"), "done", nil, 0, "notify slow: ./tell.sh took longer than 200ms\n"},
		{&star.Notice{Name: star.Name{Text: "none"}, When: []string{"done"}, Command: []string{"./no-such"}}, "done", nil, 0, "notify none: "},
	} {
		got, answers = nil, c.answers
		var said bytes.Buffer
		s := notify.Sender{Dir: dir, Out: &said, Limit: 200 * time.Millisecond, Retries: []time.Duration{time.Millisecond, time.Millisecond}}
		s.Send(context.Background(), []*star.Notice{c.notice}, []string{c.end}, []byte("{\"x\":1}\n"))
		if len(got) != c.posted || c.said == "" && said.String() != "" || !strings.Contains(said.String(), c.said) || strings.Contains(said.String(), "secret-path") {
			t.Errorf("%s, %s: %d posted, want %d; %q, want %q", c.notice.Text, c.end, len(got), c.posted, said.String(), c.said)
		}
		for _, x := range got {
			if x != "POST application/json {\"x\":1}\n" {
				t.Error(x)
			}
		}
	}
	told, err := os.ReadFile(filepath.Join(dir, "told"))
	if want := "good\n{\"x\":1}\nbad\n{\"x\":1}\nslow\n{\"x\":1}\n"; err != nil || string(told) != want {
		t.Errorf("%v: %s, want %s", err, told, want)
	}
}
