package load

import (
	"slices"
	"strings"

	"ironmonger/internal/plan"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// ordered lists the steps in the order of the model, dimensions first, but each behind those that it needs, and behind
// those that it follows as far as that can be: so the earlier ones of two steps never wait for the later ones.
func (r *run) ordered() []*step {
	all := r.inModel()
	var list, open []*step
	met := map[*step]bool{}
	var reaches func(s *step) bool // whether a step needs one that is open
	reaches = func(s *step) bool {
		return slices.Contains(open, s) ||
			slices.ContainsFunc(all, func(other *step) bool { return other != s && s.needs(other) && reaches(other) })
	}
	var place func(s *step)
	place = func(s *step) {
		if met[s] {
			return
		}
		met[s], open = true, append(open, s)
		for _, other := range all {
			if other != s && s.needs(other) {
				place(other)
			}
		}
		for _, other := range all {
			if s.follows(other) && !reaches(other) {
				place(other)
			}
		}
		list, open = append(list, s), open[:len(open)-1]
	}
	for _, s := range all {
		place(s)
	}
	return list
}

// follows reports whether another step may add members to a dimension whose rows the source of this one has.
func (s *step) follows(other *step) bool {
	return slices.ContainsFunc(s.stands(), func(x *star.Standing) bool {
		return x.Dimension != nil && slices.ContainsFunc(other.keys, func(k *star.Key) bool {
			return k.Dimension == x.Dimension && adds(k)
		})
	})
}

// adds reports whether a step may add members to the dimension of a key of it.
func adds(k *star.Key) bool {
	return k.Unmatched == star.Infer || k.Dimension.Calendar != nil && k.Dimension.Calendar.Grows()
}

// needs reports whether a step cannot run unless another has.
func (s *step) needs(other *step) bool {
	if slices.ContainsFunc(s.stands(), other.isOf) {
		return true
	}
	return other.dimension != nil &&
		slices.ContainsFunc(s.keys, func(k *star.Key) bool { return k.Dimension == other.dimension.Dimension })
}

// inModel lists the steps in the order of the model, dimensions first.
func (r *run) inModel() []*step {
	var steps []*step
	for _, d := range r.star.Dimensions {
		steps = append(steps, &step{name: "dimension " + d.Text, dimension: d, keys: d.Keys})
	}
	for _, f := range r.star.Facts {
		steps = append(steps, &step{name: "fact " + f.Text, fact: f, keys: f.Keys})
	}
	return steps
}

// Waiting is why a step waits for another.
type Waiting struct {
	Step     string `json:"step"`
	Because  string `json:"because"`
	Required bool   `json:"required"` // if that step fails, this one doesn't run
}

// Ordered is a step in the order in which a load runs: steps of one wave wait only for earlier waves.
type Ordered struct {
	Step  string    `json:"step"`
	Wave  int       `json:"wave"`
	Waits []Waiting `json:"waits,omitempty"`
}

// Order says what a load of the model runs, and why each step waits.
func Order(m *star.Model) []Ordered {
	steps := (&run{star: schema.New(m)}).ordered()
	waves := make([]int, len(steps))
	edges := order(steps)
	for range steps { // until the last wave has been reached
		for i, e := range edges {
			for _, j := range append(slices.Clone(e.Needs), e.After...) {
				waves[i] = max(waves[i], waves[j]+1)
			}
		}
	}
	list := make([]Ordered, len(steps))
	for i, s := range steps {
		list[i] = Ordered{Step: s.name, Wave: waves[i] + 1}
		said := map[int]bool{}
		say := func(j int, because string, required bool) {
			if !said[j] {
				said[j] = true
				list[i].Waits = append(list[i].Waits, Waiting{steps[j].name, because, required})
			}
		}
		for _, j := range edges[i].Needs {
			say(j, s.needsBecause(steps[j]), true)
		}
		for _, j := range edges[i].After {
			say(j, s.afterBecause(steps[j]), false)
		}
	}
	slices.SortStableFunc(list, func(a, b Ordered) int { return a.Wave - b.Wave })
	return list
}

// needsBecause says why a step needs another.
func (s *step) needsBecause(other *step) string {
	var keys []string
	for _, k := range s.keys {
		if other.dimension != nil && other.dimension.Dimension == k.Dimension {
			keys = append(keys, k.Text)
		}
	}
	switch len(keys) {
	case 0:
		return "its source has rows of it"
	case 1:
		return "key " + keys[0] + " points to it"
	}
	return "keys " + strings.Join(keys, ", ") + " point to it"
}

// afterBecause says why a step runs behind another, however that ends.
func (s *step) afterBecause(other *step) string {
	switch {
	case s.shares(other):
		return "both point to a dimension whose members may be inferred, and it stands first in the model"
	case sees(s.stands(), other):
		return "it may add members that the source has"
	case sees(other.stands(), s):
		return "its source has members that this step may add to"
	case s.looksAt(other):
		return "a condition or the aliases of this step look at what it loads"
	case other.looksAt(s):
		return "a condition or the aliases of it look at what this step loads"
	case s.grows() || other.grows():
		return "one of them may add days to a calendar"
	case s.numbersWith(other):
		return "both read the same files, whose order counts, and it stands first in the model"
	}
	return "members that become one may change facts that both point to"
}

// shares reports whether both steps point to a dimension to which one of them may add members.
func (s *step) shares(other *step) bool {
	return slices.ContainsFunc(s.keys, func(k *star.Key) bool {
		return slices.ContainsFunc(other.keys, func(o *star.Key) bool {
			return o.Dimension == k.Dimension && (adds(o) || adds(k))
		})
	})
}

// order says what each step waits for: the dimensions that it points to or whose rows its source has; the earlier steps
// that may add members to the latter; and, where it may make members or others may, the earlier steps that point to the
// same dimension, so that keys do not depend on who comes first (rule R30).
func order(steps []*step) []plan.Step {
	list := make([]plan.Step, len(steps))
	for i, s := range steps {
		list[i].Name = s.name
		for j, other := range steps {
			if other != s && s.needs(other) {
				list[i].Needs = append(list[i].Needs, j)
			}
		}
		for j, other := range steps[:i] {
			if s.shares(other) || s.numbersWith(other) || s.apart(other) || other.apart(s) {
				list[i].After = append(list[i].After, j)
			}
		}
	}
	return list
}

// stands lists the dimensions and facts of the model of which the step's source has rows.
func (s *step) stands() []*star.Standing {
	of := (*star.Source)(nil)
	if s.fact != nil {
		of = s.fact.Source
	} else {
		of = s.dimension.Source
	}
	if of == nil {
		return nil
	}
	return of.Stands()
}

// isOf reports whether the step loads a dimension or fact of which others have rows.
func (s *step) isOf(x *star.Standing) bool {
	return s.fact != nil && s.fact.Fact == x.Fact || s.dimension != nil && s.dimension.Dimension == x.Dimension
}

// numbersWith reports whether two steps write down something of the same files: when they were delivered, or what was
// in them.
func (s *step) numbersWith(other *step) bool {
	theirs := sourcesOf([]*step{other})
	return slices.ContainsFunc(sourcesOf([]*step{s}), func(x *star.Source) bool {
		if !slices.Contains(theirs, x) {
			return false
		}
		arriving := func(s *step) bool { return s.fact != nil && countingOf(s.fact) == inArrival }
		return x.DeliveredOfFile() || arriving(s) && arriving(other)
	})
}

// apart reports whether a step cannot run at the same time as another, because it reads what that one may change, or
// changes what that one reads.
func (s *step) apart(other *step) bool {
	return sees(s.stands(), other) || s.looksAt(other) || s.grows() || s.merges(other)
}

// grows reports whether a step may add days to a calendar. All steps read which days calendars have.
func (s *step) grows() bool {
	return slices.ContainsFunc(s.keys, func(k *star.Key) bool { return k.Dimension.Calendar != nil && k.Dimension.Calendar.Grows() })
}

// looksAt reports whether a condition that must hold in a step, or its aliases, are read from what another loads.
func (s *step) looksAt(other *step) bool {
	var list []*star.Standing
	var musts []*star.Must
	if s.fact != nil {
		musts = s.fact.MustHold
	} else {
		if musts = s.dimension.MustHold; s.dimension.Aliases != nil {
			list = s.dimension.Aliases.Source.Stands()
		}
	}
	for _, m := range musts {
		if m.InLoad && m.Source != nil {
			list = append(list, m.Source.Stands()...)
		}
	}
	return slices.ContainsFunc(list, other.isOf) || sees(list, other)
}

// sees reports whether a step may add members to what is read: a dimension, or one whose natural keys are taken of what
// points to it.
func sees(list []*star.Standing, other *step) bool {
	return slices.ContainsFunc(list, func(x *star.Standing) bool {
		return slices.ContainsFunc(other.keys, func(k *star.Key) bool {
			reads := x.Dimension == k.Dimension || slices.ContainsFunc(x.Keys(), func(of *star.Key) bool {
				return of.Dimension == k.Dimension && x.Takes(of)
			})
			return reads && adds(k)
		})
	})
}

// merges reports whether members that become one in a step may change facts that point to the dimension of another,
// too.
func (s *step) merges(other *step) bool {
	return s.dimension != nil && other.dimension != nil && s.dimension.Aliases != nil &&
		slices.ContainsFunc(s.dimension.PointedAt, func(ref schema.Reference) bool {
			return slices.ContainsFunc(other.dimension.PointedAt, func(o schema.Reference) bool { return o.Table == ref.Table })
		})
}
