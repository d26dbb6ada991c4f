package history

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/revision"
	"yorvet.example/yorvet/internal/undo"
)

// The bounds of what is looked at in git, for one answer.
const (
	mostCommits = 30
	mostInGit   = 15 * time.Second
)

// Lately adds to a history what changed about a group or person since a time: by Yorvet, as the
// changes of the estate at a path say, by git, and by what answers found.
func Lately(ctx context.Context, a *present.HistoryOf, path string, who address.Address, since time.Time) {
	a.Days = int(clock.Since(since).Hours()/24 + 0.5)
	if changes, err := byYorvet(path, who, since); err != nil {
		a.Unread = append(a.Unread, "the changes that Yorvet made cannot be read: "+err.Error())
	} else {
		a.Changes = append(a.Changes, changes...)
	}
	commits, err := byGit(ctx, path, who, since)
	a.Changes = append(a.Changes, commits...)
	if err != nil {
		a.Unread = append(a.Unread, "not all commits could be looked at: "+err.Error())
	}
	for _, list := range [][]present.HistoryInterval{a.Now, a.Resolved} {
		for _, s := range list {
			if s.Since >= stamp(since) && !s.Begun {
				a.Changes = append(a.Changes, present.HistoryChanged{When: s.Since, By: "found", What: "new: " + s.Says})
			}
		}
	}
	for _, s := range a.Resolved {
		if s.Until >= stamp(since) && s.Kind != "log" { // what a log tells is over at once
			a.Changes = append(a.Changes, present.HistoryChanged{When: s.Until, By: "found", What: "for the last time: " +
				s.Says})
		}
	}
	slices.SortStableFunc(a.Changes, func(x, y present.HistoryChanged) int { return strings.Compare(y.When, x.When) })
}

// LastChange returns the last change of a group or person between two times, made by Yorvet or in
// git, if one is known.
func LastChange(
	ctx context.Context, path string, who address.Address, since, until time.Time,
) (last present.HistoryChanged, ok bool) {
	changes, _ := byYorvet(path, who, since)
	commits, _ := byGit(ctx, path, who, since)
	for _, c := range append(changes, commits...) {
		if c.When <= stamp(until) && c.When >= last.When {
			last, ok = c, true
		}
	}
	return last, ok
}

// byYorvet returns the changes that Yorvet made in which an address stands.
func byYorvet(path string, who address.Address, since time.Time) ([]present.HistoryChanged, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, nil // there is no estate here
	}
	kept, err := undo.Open(path)
	if err != nil {
		return nil, err
	}
	list, err := kept.List()
	if err != nil {
		return nil, err
	}
	var found []present.HistoryChanged
	for _, c := range list {
		if !c.Time.Before(since) && names(&c, who) {
			found = append(found, present.HistoryChanged{When: stamp(c.Time), Who: c.User, By: "yorvet",
				What: strings.Join(append([]string{"yorvet"}, c.Command...), " ") + ": " + c.Says})
		}
	}
	return found, nil
}

// names reports whether an address stands in a change, in full or, as an argument, by its local
// part.
func names(c *undo.WrittenChange, who address.Address) bool {
	full := strings.ToLower(who.String())
	for _, arg := range c.Command {
		if arg = strings.ToLower(arg); arg == full || arg == strings.ToLower(who.Local()) || strings.Contains(arg, full) {
			return true
		}
	}
	for _, f := range c.Files {
		for _, e := range f.Edits {
			if strings.Contains(strings.ToLower(e.Old+e.New), full) {
				return true
			}
		}
	}
	return false
}

// byGit returns what commits changed about an address. The folder need not be in a repository.
func byGit(ctx context.Context, path string, who address.Address, since time.Time) ([]present.HistoryChanged, error) {
	ctx, cancel := context.WithTimeout(ctx, mostInGit)
	defer cancel()
	commits, err := revision.Commits(ctx, path, since, mostCommits+1)
	if err != nil {
		return nil, nil // no repository, or no commit: git knows nothing of it
	}
	var cut error
	if len(commits) > mostCommits {
		commits, cut = commits[:mostCommits], errors.New("there are more than 30")
	}
	var found []present.HistoryChanged
	told := map[string]map[string]string{} // by commit
	at := func(rev string) (map[string]string, error) {
		if known, ok := told[rev]; ok {
			return known, nil
		}
		tree, err := revision.Open(ctx, rev)
		if err != nil {
			return nil, nil // before the first commit there was nothing
		}
		e, err := estatefile.LoadFrom(ctx, tree, path, nil)
		if err != nil {
			return nil, err
		}
		told[rev] = describe(e, who)
		return told[rev], nil
	}
	for _, c := range commits {
		now, err := at(c.Name)
		was, errWas := at(c.Name + "^")
		if ctx.Err() != nil {
			return found, errors.New("it took too long")
		}
		if err != nil || errWas != nil {
			continue // an estate that had errors says nothing
		}
		if what := unlike(was, now); len(what) > 0 {
			found = append(found, present.HistoryChanged{When: stamp(c.Time), Who: c.Author, By: "git " + c.Name[:10],
				What: strings.Join(what, "; ")})
		}
	}
	return found, cut
}

// describe returns what an estate says of a group or person, by what it says it about.
func describe(e *estate.Estate, who address.Address) map[string]string {
	said := map[string]string{}
	id, ok := e.Exact(who)
	switch {
	case !ok:
		return said
	case e.IsGroup(id):
		said["the group"] = "there"
		for setting := range estate.GroupSettings() {
			if texts := setting.Texts(e, e.Group(id)); texts != nil {
				said[setting.Name] = strings.Join(texts, ", ")
			}
		}
		for _, entry := range e.Entries(id) {
			said["member "+e.Address(entry.Member).String()] = entryWords(entry)
		}
	default:
		said["the person"] = "there"
		p := e.Person(id)
		for _, s := range estate.PersonSettings() {
			said[s.Name] = s.Holds(*p)
		}
		for _, attribute := range e.Attributes(id) {
			said["attribute "+attribute.Name] += attribute.Value + " "
		}
		for group := range estate.ID(e.Groups()) {
			for _, entry := range e.Entries(group) {
				if entry.Member == id {
					said["member of "+e.Address(group).String()] = entryWords(entry)
				}
			}
		}
	}
	return said
}

func entryWords(e estate.Entry) string {
	var words []string
	for _, s := range estate.MembershipSettings() {
		switch text := s.Text(e.Membership()); {
		case text != "" && s.Form == estate.FormFlag:
			words = append(words, s.Name)
		case text != "":
			words = append(words, s.Name+" "+text)
		}
	}
	return cmp.Or(strings.Join(words, ", "), "yes")
}

// unlike returns what is said otherwise, in words.
func unlike(was, now map[string]string) []string {
	keys := maps.Clone(was)
	if keys == nil {
		keys = map[string]string{}
	}
	maps.Copy(keys, now)
	var list []string
	for _, key := range slices.Sorted(maps.Keys(keys)) {
		before, wasThere := was[key]
		after, isThere := now[key]
		switch {
		case before == after && wasThere == isThere:
		case !wasThere:
			list = append(list, key+" added")
		case !isThere:
			list = append(list, key+" removed")
		default:
			list = append(list, key+": "+before+" -> "+after)
		}
	}
	const most = 12
	if len(list) > most {
		list = append(list[:most], "and more")
	}
	return list
}
