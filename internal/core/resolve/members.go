package resolve

import (
	"slices"
	"sync"
	"sync/atomic"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// Members returns the members of a group: people and groups, direct and through
// nested groups. A group is among its own members where it is nested in a ring.
// The set is not to be changed.
func (r *Resolver) Members(group estate.ID) *roaring.Bitmap {
	if r.rings == nil {
		r.rings = r.members.ringsOf(r)
	}
	ring := r.rings[group]
	if set := r.members.of(ring); set != nil {
		return set
	}
	r.nestedFirst(group,
		func(ring int32) bool { return r.members.of(ring) != nil },
		func(ring int32) { r.members.put(ring, r.gather(ring)) })
	return r.members.of(ring)
}

// memberSets are the members of groups, by the group that stands for their ring. Several
// goroutines may use them.
type memberSets struct {
	mu    sync.RWMutex
	rings []int32 // see findRings
	sets  []*roaring.Bitmap

	listing sync.Once
	direct  atomic.Pointer[direct] // see eachDirect; nil: not listed yet
}

func (s *memberSets) ringsOf(r *Resolver) []int32 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.rings == nil {
		s.rings, s.sets = r.findRings(), make([]*roaring.Bitmap, r.e.Groups())
	}
	return s.rings
}

func (s *memberSets) of(ring int32) *roaring.Bitmap {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.sets[ring]
}

func (s *memberSets) put(ring int32, set *roaring.Bitmap) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sets[ring] = set
}

// nestedFirst works out something for a group, or the ring that it is in, after
// it has been worked out for all groups nested in it. What is done is left alone.
func (r *Resolver) nestedFirst(group estate.ID, done func(ring int32) bool, work func(ring int32)) {
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
			set.Or(r.picks(rule))
		}
		for _, child := range r.e.Children(id) {
			if r.rings[child.Group] != ring {
				set.Or(r.members.of(r.rings[child.Group]))
			}
		}
	}
	slices.Sort(listed)
	set.AddMany(listed)
	set.RunOptimize()
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
		r.rings = r.members.ringsOf(r)
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

// findRings returns for each group one that stands for all that are in a ring with it.
func (r *Resolver) findRings() []int32 {
	c := findComponents(r.e, func(estate.ID, estate.Nesting) bool { return true })
	rings := make([]int32, r.e.Groups())
	for id, component := range c.of {
		groups := c.in(component)
		rings[id] = int32(groups[len(groups)-1])
	}
	return rings
}
