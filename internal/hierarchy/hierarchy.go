// Package hierarchy works out hierarchies of parents and children: how deep each node stands, and whether any
// stands above itself. Nodes are numbers from 0.
package hierarchy

// None is the parent of a root.
const None = -1

// Levels returns each node's level, 1 for a root, from the parents of all. If nodes stand above themselves, cycle
// is one such round of them, each the child of the next, and the first again at its end.
func Levels(parent []int32) (level []int32, cycle []int32) {
	level = make([]int32, len(parent))
	const walking = -1
	var path []int32
	for n := range parent {
		path = path[:0]
		at := int32(n)
		for at != None && level[at] == 0 {
			level[at] = walking
			path = append(path, at)
			at = parent[at]
		}
		if at != None && level[at] == walking {
			for k, m := range path {
				if m == at {
					return nil, append(append(cycle, path[k:]...), at)
				}
			}
		}
		above := int32(0)
		if at != None {
			above = level[at]
		}
		for k := len(path) - 1; k >= 0; k-- {
			above++
			level[path[k]] = above
		}
	}
	return level, nil
}
