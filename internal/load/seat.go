package load

import (
	"sync"

	"ironmonger/internal/roster"
	"ironmonger/internal/star"
)

// seat is where the roster of a dimension is kept for all steps.
type seat struct {
	mu     sync.Mutex
	x      *roster.Roster // nil if there is none
	weight int64          // bytes that it takes, about
}

func (r *run) seat(d *star.Dimension) *seat {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.rosters[d] == nil {
		r.rosters[d] = &seat{}
	}
	return r.rosters[d]
}

// take puts a roster in the place of the one before; the caller has locked the seat.
func (s *seat) take(x *roster.Roster) {
	s.x, s.weight = x, 0
	if x != nil {
		s.weight = roster.Weight(int64(x.Len()))
	}
}

// weigh notes how large the roster is now, when a step has added to it.
func (s *seat) weigh() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.take(s.x)
}

func (s *seat) taken() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.x != nil
}

// seated is how many bytes all rosters take, about.
func (r *run) seated() int64 {
	r.mu.Lock()
	seats := make([]*seat, 0, len(r.rosters))
	for _, s := range r.rosters {
		seats = append(seats, s)
	}
	r.mu.Unlock()
	sum := int64(0)
	for _, s := range seats {
		s.mu.Lock()
		sum += s.weight
		s.mu.Unlock()
	}
	return sum
}
