package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"ironmonger/internal/lineage"
	"ironmonger/internal/load"
	"ironmonger/internal/notify"
	"ironmonger/internal/star"
)

// runEvents tells what steps read and write, while the load goes on. What cannot be told is said once, and changes
// nothing else.
type runEvents struct {
	book  *lineage.Book
	to    star.Lineage
	file  *os.File
	begun map[string]bool
	queue chan *lineage.Event
	wait  sync.WaitGroup
	err   error
}

// newEvents begins to tell; nil if the model names nobody.
func newEvents(ctx context.Context, m *star.Model, dir string) (*runEvents, error) {
	if m.Lineage.File == "" && m.Lineage.Post == "" {
		return nil, nil
	}
	book, err := lineage.NewBook(m, dir, "ironmonger "+Version)
	if err != nil {
		return nil, err
	}
	e := &runEvents{book: book, to: m.Lineage, begun: map[string]bool{}, queue: make(chan *lineage.Event, 4*(len(m.Dimensions)+len(m.Facts)))}
	if name := m.Lineage.File; name != "" {
		if !filepath.IsAbs(name) {
			name = filepath.Join(dir, name)
		}
		if e.file, err = os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644); err != nil {
			return nil, err
		}
	}
	e.wait.Go(func() {
		for event := range e.queue {
			if err := e.tell(ctx, event); e.err == nil {
				e.err = err
			}
		}
	})
	return e, nil
}

// watch takes news of a load.
func (e *runEvents) watch(n load.Progress) {
	switch {
	case e == nil || n.Step == "" || n.Run == 0:
	case n.Entry != nil && e.begun[n.Step]:
		e.queue <- e.book.Ends(n.Entry, time.Now())
	case !n.Ended && !e.begun[n.Step]:
		e.begun[n.Step] = true
		e.queue <- e.book.Begins(n.Run, n.Step, time.Now())
	}
}

// tell writes an event down and posts it. After the first service that does not answer, nothing more is posted.
func (e *runEvents) tell(ctx context.Context, event *lineage.Event) error {
	text, err := json.Marshal(event)
	if err == nil && e.file != nil {
		_, err = e.file.Write(append(text, '\n'))
	}
	if err != nil || e.to.Post == "" || e.err != nil {
		return err
	}
	sender := notify.Sender{}
	if ctx.Err() != nil { // the program is to end
		sender.Limit, sender.Retries = time.Second, []time.Duration{}
	}
	return sender.Post(context.WithoutCancel(ctx), e.to.Post, text)
}

// end waits until all is told.
func (e *runEvents) end(s *session) {
	if e == nil {
		return
	}
	close(e.queue)
	e.wait.Wait()
	if e.file != nil {
		e.err = errors.Join(e.err, e.file.Close())
	}
	if e.err != nil {
		fmt.Fprintln(s.err, "lineage:", e.err)
	}
}
