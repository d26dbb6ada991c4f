package resolve

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// components are groups of which each reaches all others of its component by nestings: mostly
// one alone, and rings. They are numbered from 0, each after all that it leads to.
type components struct {
	of     []int32 // by group
	start  []int32 // by component, into groups; one more at the end
	groups []estate.ID
}

// count returns the number of components.
func (c *components) count() int { return len(c.start) - 1 }

// in returns the groups of a component.
func (c *components) in(component int32) []estate.ID {
	return c.groups[c.start[component]:c.start[component+1]]
}

// findComponents divides groups by the nestings that follow: the strongly connected
// components, after Tarjan, with a stack of its own.
func findComponents(e *estate.Estate, follow func(outer estate.ID, nested estate.Nesting) bool) *components {
	n := e.Groups()
	c := &components{of: make([]int32, n), start: []int32{0}, groups: make([]estate.ID, 0, n)}
	order, low := make([]int32, n), make([]int32, n) // order 0: unseen
	onPath, path := make([]bool, n), []estate.ID{}
	type frame struct {
		group estate.ID
		next  int // child
	}
	var frames []frame
	var count int32
	enter := func(id estate.ID) {
		count++
		order[id], low[id] = count, count
		path = append(path, id)
		onPath[id] = true
		frames = append(frames, frame{group: id})
	}
	leave := func(id estate.ID) {
		if low[id] < order[id] {
			return
		}
		for last := estate.None; last != id; {
			last = path[len(path)-1]
			path = path[:len(path)-1]
			onPath[last] = false
			c.of[last] = int32(c.count())
			c.groups = append(c.groups, last)
		}
		c.start = append(c.start, int32(len(c.groups)))
	}
	for start := range estate.ID(n) {
		if order[start] == 0 {
			enter(start)
		}
		for len(frames) > 0 {
			top := &frames[len(frames)-1]
			id := top.group
			if children := e.Children(id); top.next < len(children) {
				child := children[top.next]
				top.next++
				switch {
				case !follow(id, child):
				case order[child.Group] == 0:
					enter(child.Group)
				case onPath[child.Group]:
					low[id] = min(low[id], order[child.Group])
				}
				continue
			}
			frames = frames[:len(frames)-1]
			if len(frames) > 0 {
				parent := frames[len(frames)-1].group
				low[parent] = min(low[parent], low[id])
			}
			leave(id)
		}
	}
	return c
}

// edges lead from components to others.
type edges struct {
	start []int32 // by component, into to; one more at the end
	to    []int32
}

// of returns the components that edges lead to from one.
func (e *edges) of(component int32) []int32 { return e.to[e.start[component]:e.start[component+1]] }

// outer returns, for each component, the others that it is nested in by nestings that follow.
func (c *components) outer(e *estate.Estate, follow func(outer estate.ID, nested estate.Nesting) bool) edges {
	out := edges{start: make([]int32, c.count()+2)}
	each := func(visit func(inner, outer int32)) {
		met := make([]int32, c.count()) // 1 + the last component that each is nested in
		for component := range int32(c.count()) {
			for _, id := range c.in(component) {
				for _, child := range e.Children(id) {
					inner := c.of[child.Group]
					if inner != component && met[inner] != component+1 && follow(id, child) {
						met[inner] = component + 1
						visit(inner, component)
					}
				}
			}
		}
	}
	each(func(inner, _ int32) { out.start[inner+2]++ })
	for i := range c.count() {
		out.start[i+2] += out.start[i+1]
	}
	out.to = make([]int32, out.start[c.count()+1])
	each(func(inner, outer int32) {
		out.to[out.start[inner+1]] = outer
		out.start[inner+1]++
	})
	return out
}

// Nestings returns how many groups all groups of an estate hold together, directly and through others,
// and which of them holds most: what work on nested groups takes grows with it. It stops counting at
// the first component that brings the number above most.
func Nestings(e *estate.Estate, most int) (number int, widest estate.ID) {
	everywhere := func(estate.ID, estate.Nesting) bool { return true }
	c := findComponents(e, everywhere)
	held := make([]*roaring.Bitmap, c.count()) // by component
	var wide uint64
	for component := range int32(c.count()) {
		set := roaring.New()
		for _, id := range c.in(component) {
			for _, child := range e.Children(id) {
				set.Add(uint32(child.Group))
				if inner := c.of[child.Group]; inner != component {
					set.Or(held[inner])
				}
			}
		}
		held[component] = set
		holds := set.GetCardinality()
		if holds > wide {
			wide, widest = holds, c.in(component)[0]
		}
		if number += len(c.in(component)) * int(holds); number > most {
			break
		}
	}
	return number, widest
}
