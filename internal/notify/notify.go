// Package notify tells programs and web services how a load ended. A message is one JSON document. What cannot be told
// is said, and does not change how the load ended.
package notify

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/diag"
	"ironmonger/internal/star"
)

// Sender tells notices. The zero value has the usual times.
type Sender struct {
	Dir     string          // where programs are called
	Out     io.Writer       // what programs write, and what could not be told
	Limit   time.Duration   // that a program or a request may take; 0 is 30 seconds
	Retries []time.Duration // after which times a request that failed is made once more; nil is after 1 and 5 seconds
}

// Send tells all notices of which one of the ends is meant.
func (s *Sender) Send(ctx context.Context, notices []*star.Notice, ends []string, message []byte) {
	s.usual()
	for _, n := range notices {
		if !slices.ContainsFunc(n.When, func(end string) bool { return slices.Contains(ends, end) }) {
			continue
		}
		tell := s.call
		if n.Post != "" {
			tell = s.post
		}
		if err := tell(ctx, n, message); err != nil {
			fmt.Fprintf(s.Out, "notify %s: %v\n", n.Text, err)
		}
	}
}

// usual sets what the caller has left open.
func (s *Sender) usual() {
	if s.Limit == 0 {
		s.Limit = 30 * time.Second
	}
	if s.Retries == nil {
		s.Retries = []time.Duration{time.Second, 5 * time.Second}
	}
}

// call calls a program.
func (s *Sender) call(ctx context.Context, n *star.Notice, message []byte) error {
	ctx, cancel := context.WithTimeout(ctx, s.Limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, n.Command[0], n.Command[1:]...)
	cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr = s.Dir, bytes.NewReader(message), s.Out, s.Out
	cmd.WaitDelay = time.Second
	err := cmd.Run()
	if ctx.Err() != nil {
		return fmt.Errorf("%s took longer than %s", n.Command[0], s.Limit)
	}
	return err
}

// post posts a message.
func (s *Sender) post(ctx context.Context, n *star.Notice, message []byte) error {
	return s.Post(ctx, n.Post, message)
}

// Post posts a message to a URL, again if it cannot be taken now.
func (s *Sender) Post(ctx context.Context, url string, message []byte) error {
	s.usual()
	err, again := s.request(ctx, url, message)
	tries := 1
	for _, wait := range s.Retries {
		if err == nil || !again {
			break
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
		err, again = s.request(ctx, url, message)
		tries++
	}
	if err != nil && tries > 1 {
		return fmt.Errorf("%w (tried %d times)", err, tries)
	}
	return err
}

// request posts a message once; again tells whether it may be taken later. The error has no part of the URL, which may
// be a secret.
func (s *Sender) request(ctx context.Context, url string, message []byte) (err error, again bool) {
	ctx, cancel := context.WithTimeout(ctx, s.Limit)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(message))
	if err != nil {
		return fmt.Errorf("the URL cannot be used"), false
	}
	req.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("no answer: %s", strings.ReplaceAll(last(err).Error(), url, "the URL")), true
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(answer.Body, 200))
	if answer.StatusCode/100 == 2 {
		return nil, false
	}
	busy := answer.StatusCode/100 == 5 || answer.StatusCode == http.StatusTooManyRequests
	return fmt.Errorf("the answer is %s: %s", answer.Status, diag.Printable(strings.TrimSpace(string(text)))), busy
}

// last is the innermost of an error's causes.
func last(err error) error {
	for {
		u, ok := err.(interface{ Unwrap() error })
		if !ok || u.Unwrap() == nil {
			return err
		}
		err = u.Unwrap()
	}
}
