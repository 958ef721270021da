package load

import (
	"context"
	"sync"

	"ironmonger/internal/warehouse"
)

// hold is the right to load the warehouse. It may be lost, and be taken once more.
type hold struct {
	mu sync.Mutex
	warehouse.Hold
	meanwhile bool // another load has run between
}

// check returns an error if a step cannot begin: the right is lost, or another load has had it.
func (h *hold) check(ctx context.Context) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case h.meanwhile:
		return errMeanwhile
	case h.Hold == nil:
		return errLost
	}
	return h.Check(ctx)
}

func (h *hold) release() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.Hold != nil {
		h.Release()
	}
}
