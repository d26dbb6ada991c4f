package resolve

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// Members returns the members of a group: people and groups, direct and through
// nested groups. A group is among its own members where it is nested in a ring.
// The set is not to be changed.
func (r *Resolver) Members(group estate.ID) *roaring.Bitmap {
	r.nestedFirst(group,
		func(ring int32) bool { return r.members[estate.ID(ring)] != nil },
		func(ring int32) { r.members[estate.ID(ring)] = r.gather(ring) })
	return r.members[estate.ID(r.rings[group])]
}

// nestedFirst works out something for a group, or the ring that it is in, after
// it has been worked out for all groups nested in it. What is done is left alone.
func (r *Resolver) nestedFirst(group estate.ID, done func(ring int32) bool, work func(ring int32)) {
	if r.rings == nil {
		r.rings = r.findRings()
	}
	stack := []estate.ID{group}
	var entered map[int32]bool
	for len(stack) > 0 {
		at := stack[len(stack)-1]
		ring := r.rings[at]
		if done(ring) {
			stack = stack[:len(stack)-1]
			continue
		}
		if entered[ring] {
			stack = stack[:len(stack)-1]
			work(ring)
			continue
		}
		if entered == nil {
			entered = map[int32]bool{}
		}
		entered[ring] = true
		for _, id := range r.ringOf(estate.ID(ring)) {
			for _, child := range r.e.Children(id) {
				if r.rings[child.Group] != ring {
					stack = append(stack, child.Group)
				}
			}
		}
	}
}

// gather returns the members of the groups of a ring, those of the groups nested
// in them being known.
func (r *Resolver) gather(ring int32) *roaring.Bitmap {
	set := roaring.New()
	var listed []uint32
	for _, id := range r.ringOf(estate.ID(ring)) {
		for _, entry := range r.e.Entries(id) {
			if !entry.Member.IsNobody() {
				listed = append(listed, uint32(entry.Member))
			}
		}
		for _, rule := range r.e.Rules(id) {
			set.Or(r.picked(rule))
		}
		for _, child := range r.e.Children(id) {
			if r.rings[child.Group] != ring {
				set.Or(r.members[estate.ID(r.rings[child.Group])])
			}
		}
	}
	slices.Sort(listed)
	set.AddMany(listed)
	return set
}

// ringOf returns the groups that are in a ring with its first one: mostly that
// one alone.
func (r *Resolver) ringOf(first estate.ID) []estate.ID {
	groups := []estate.ID{first}
	seen := map[estate.ID]bool{first: true}
	for i := 0; i < len(groups); i++ {
		for _, child := range r.e.Children(groups[i]) {
			if r.rings[child.Group] == int32(first) && !seen[child.Group] {
				seen[child.Group] = true
				groups = append(groups, child.Group)
			}
		}
	}
	return groups
}

// Ring returns the groups that are nested in each other in a ring with a group,
// that one first, or nil if it is in no ring.
func (r *Resolver) Ring(group estate.ID) []estate.ID {
	if r.rings == nil {
		r.rings = r.findRings()
	}
	groups := r.ringOf(estate.ID(r.rings[group]))
	if len(groups) > 1 {
		return groups
	}
	for _, child := range r.e.Children(group) {
		if child.Group == group {
			return groups
		}
	}
	return nil
}

// findRings returns for each group one that stands for all that are in a ring
// with it: the strongly connected components of the nesting, after Tarjan, with a
// stack of its own.
func (r *Resolver) findRings() []int32 {
	n := r.e.Groups()
	const unseen = 0
	order, low := make([]int32, n), make([]int32, n)
	rings, onPath := make([]int32, n), make([]bool, n)
	var path []estate.ID
	type frame struct {
		group estate.ID
		next  int // child
	}
	var frames []frame
	count := int32(unseen)
	enter := func(id estate.ID) {
		count++
		order[id], low[id] = count, count
		path = append(path, id)
		onPath[id] = true
		frames = append(frames, frame{group: id})
	}
	for start := range estate.ID(n) {
		if order[start] != unseen {
			continue
		}
		enter(start)
		for len(frames) > 0 {
			top := &frames[len(frames)-1]
			id := top.group
			children := r.e.Children(id)
			if top.next < len(children) {
				child := children[top.next].Group
				top.next++
				if order[child] == unseen {
					enter(child)
				} else if onPath[child] {
					low[id] = min(low[id], order[child])
				}
				continue
			}
			frames = frames[:len(frames)-1]
			if len(frames) > 0 {
				parent := frames[len(frames)-1].group
				low[parent] = min(low[parent], low[id])
			}
			if low[id] < order[id] {
				continue
			}
			for {
				last := path[len(path)-1]
				path = path[:len(path)-1]
				onPath[last] = false
				rings[last] = int32(id)
				if last == id {
					break
				}
			}
		}
	}
	return rings
}
