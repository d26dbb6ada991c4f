package directory

import (
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// Finish links what refers to each other and returns the directory.
func (c *Collector) Finish() *Directory {
	c.finishGroups()
	c.d.Coverage = c.coverage.finish(c.d)
	// Groups are linked side by side: that only reads what all of them share.
	const stretch = 64
	unlinked := make([][]string, len(c.d.Groups))
	var next atomic.Int64
	var done sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), 4) {
		done.Go(func() {
			for {
				from := int(next.Add(stretch)) - stretch
				if from >= len(c.d.Groups) {
					return
				}
				for i := from; i < min(from+stretch, len(c.d.Groups)); i++ {
					unlinked[i] = c.linkGroup(i)
				}
			}
		})
	}
	done.Wait()
	for i, texts := range unlinked {
		for _, text := range texts {
			c.d.Remark(c.d.Groups[i].Line, true, text)
		}
	}
	for i := range c.d.People {
		p := &c.d.People[i]
		for _, r := range p.memberOf {
			for _, text := range r.texts {
				if of := c.byID[c.normal(text)]; of.isGroup() {
					g := &c.d.Groups[of.index()]
					member := estatefile.Member{Address: p.Address, Membership: r.what}
					g.Members, g.targets = append(g.Members, member), append(g.targets, person(i))
				} else {
					c.d.Remark(p.Line, false, "the group "+text+", of which "+p.Address+" is a member, is not in this source")
				}
			}
		}
		p.memberOf = nil
	}
	return c.d
}

// linkGroup resolves the references of a group. It returns what to remark.
func (c *Collector) linkGroup(index int) (remarks []string) {
	g := &c.d.Groups[index]
	for _, r := range g.references {
		if !c.d.identify || r.by != "id" {
			continue
		}
		for _, text := range r.texts {
			if g.held == nil {
				g.held = map[string]bool{}
			}
			g.held[strings.ToLower(text)] = true
		}
	}
	for _, r := range g.references {
		if r.role == "member" {
			g.Members, g.targets = slices.Grow(g.Members, len(r.texts)), slices.Grow(g.targets, len(r.texts))
		}
		for _, text := range r.texts {
			if !c.link(g, group(index), r, text) && text != "" && len(remarks) < mostRemarks {
				remarks = append(remarks, "the "+r.role+" "+text+" of "+g.Address+" is not in this source")
			}
		}
	}
	g.references = nil
	return remarks
}

// link resolves one reference of a group, if it can. Where a schema wants a
// member, a group without one has itself, which counts for nothing.
func (c *Collector) link(g *Group, self who, r references, text string) bool {
	address, target, ok := c.target(r, text)
	if !ok {
		return false
	}
	switch r.role {
	case "owner":
		g.Owners = append(g.Owners, address)
	case "moderator":
		g.Mods = append(g.Mods, address)
	case "member":
		if target == self && len(c.d.Map.Groups[g.Rule].Classes) > 0 {
			return true
		}
		g.Members, g.targets = append(g.Members, memberOf(address, r.what)), append(g.targets, target)
	}
	return true
}

// memberOf returns a member that a text names: an address, or as in a table
// everyone, or where and a filter.
func memberOf(text string, what estate.Membership) estatefile.Member {
	m := estatefile.Member{Membership: what}
	if filter, ok := strings.CutPrefix(text, "where "); ok {
		m.Where = filter
	} else if text == "everyone" {
		m.Everyone = true
	} else {
		m.Address = text
	}
	return m
}

// target returns the address that a reference means, and whose it is.
func (c *Collector) target(r references, text string) (address string, target who, ok bool) {
	switch r.by {
	case "address":
		text = strings.TrimSpace(text)
		if text == "everyone" || strings.HasPrefix(text, "where ") {
			return text, 0, r.role == "member"
		}
		return parsed(text)
	case "key":
		at, ok := c.byKey[strings.ToLower(strings.TrimSpace(text))]
		if !ok {
			return "", 0, false
		}
		return c.d.People[at].Address, person(at), true
	}
	at, ok := c.byID[text]
	if !ok {
		at = c.byID[c.normal(text)]
	}
	switch {
	case at.isPerson():
		return c.d.People[at.index()].Address, at, true
	case at.isGroup():
		return c.d.Groups[at.index()].Address, at, true
	}
	// Some say mailto:a@b, or an address, where an identifier belongs.
	if len(text) > 7 && strings.EqualFold(text[:7], "mailto:") {
		text = text[7:]
	}
	return parsed(text)
}

func parsed(text string) (string, who, bool) {
	a, err := address.Parse(text)
	return a.String(), 0, err == nil
}
