// Package propose changes an estate on disk. A proposal, with its arguments as values, is worked out as changes of a
// draft; what they do is the answer; they are written if somebody agrees, and kept so that they can be taken back.
// It parses no command line, and prints nothing.
package propose

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/source"
)

// A Proposal is something that somebody wants to change.
type Proposal interface {
	// propose makes the changes in a draft of the estate. It may be called again, with a newer one.
	propose(w *work) error
}

// A Manner says how a change is made, and who makes it.
type Manner struct {
	Yes          bool     // write it without asking
	Preview      bool     // write nothing
	Diff         bool     // show the lines that change
	Quietly      bool     // do not welcome new members
	ThroughLinks bool     // write files outside the estate's folder that links in it lead to
	Command      []string // what was asked for, as words of a command line
	Tell         func(line string)
	Loaded       func() // is called once there are two estates
}

// work is a proposal that is worked out.
type work struct {
	ask.Desk
	ctx   context.Context
	how   *Manner
	draft *estatefile.Draft
	path  string // of the estate

	undoes  int          // the number of the change that this one takes back, or 0
	tally   *pastedTally // of the pasted list, or nil
	about   string       // what is made, in words
	notes   []string
	noted   map[string]bool                            // which of them there are
	wrap    func(*present.EstateChange) present.Answer // makes the answer of what changes, where it is more than that
	wrong   bool                                       // something that was asked for could not be done
	refused error                                      // why the change is not made, though it may be looked at
	after   error                                      // what went wrong as well

	suggested   int               // how often it was looked who may have been meant
	written     map[string]bool   // people outside who are written down, by key
	pastedNames map[string]byName // by name: who it was found to be
}

// note reports something apart from the change.
func (w *work) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if w.noted == nil {
		w.noted = map[string]bool{}
	}
	if !w.noted[text] {
		w.noted[text] = true
		w.notes = append(w.notes, text)
	}
}

// leaveOut reports something that was asked for and is not done.
func (w *work) leaveOut(format string, args ...any) {
	w.note(format, args...)
	w.wrong = true
}

// mostAttempts is how often a change is worked out again when others change the
// estate meanwhile.
const mostAttempts = 20

// Change works a proposal out, and writes it if that is to be without asking. Else the result asks and writes once
// its answer was given. With an error there may be a result, whose answer is to be given first.
func Change(ctx context.Context, at *ask.Place, how *Manner, p Proposal) (*ask.Result, error) {
	if !at.Named {
		if err := ask.NoSource(at.Path); err != nil {
			return nil, err
		}
	}
	if source.Is(at.Path) {
		return nil, ask.Errorf("%s is a source, expected an estate on disk to change", at.Path)
	}
	for attempt := 1; ; attempt++ {
		draft, err := estatefile.Open(ctx, at.Path)
		if err != nil {
			if !at.Named && errors.Is(err, fs.ErrNotExist) {
				return nil, ask.ErrNoEstate
			}
			return nil, ask.LoadError(at.Path, err)
		}
		w := &work{
			Desk: ask.Desk{Estate: draft.Before(), Resolver: resolve.New(draft.Before(), at.Day)},
			ctx:  ctx, how: how, draft: draft, path: at.Path,
		}
		if err := p.propose(w); err != nil {
			return nil, err
		}
		if how.Loaded != nil {
			how.Loaded()
		}
		r, err := w.finish(at)
		if !errors.Is(err, estatefile.ErrChanged) || !how.Yes || attempt == mostAttempts {
			return r, err
		}
	}
}

// finish says what a change does, and writes it if it is not to be asked about.
func (w *work) finish(at *ask.Place) (*ask.Result, error) {
	later, err := w.draft.Estate()
	switch {
	case errors.Is(err, estatefile.ErrChanged):
		return nil, writeError(err)
	case err != nil:
		return nil, fmt.Errorf("yorvet: with this change the estate would have errors; nothing is written\n%w",
			ask.LoadError(w.path, err))
	}
	answer := present.NewChange(w.Resolver, resolve.New(later, at.Day), w.how.Quietly)
	answer.Lead = w.tally.String()
	answer.About, answer.Notes = w.about, append(answer.Notes, w.notes...)
	files, err := w.draft.Changed()
	if err != nil {
		return nil, ask.Errorf("%w", err)
	}
	for _, f := range files {
		change := present.FileChange{File: f.File, Added: f.Added, Removed: f.Removed, Names: f.Names}
		if w.how.Diff {
			change.Diff = present.Unified(f.File, f.Before, f.Later)
		}
		answer.Files = append(answer.Files, change)
	}
	answer.Notes = append(answer.Notes, w.throughLinks(files)...)
	r := &ask.Result{Answer: answer, Wrong: w.after == nil && (w.wrong || w.how.Preview && w.refused != nil)}
	done := w.after
	switch {
	case w.how.Preview, len(files) == 0:
	case w.refused != nil:
		r.Wrong, done = false, w.refused
	case w.how.Yes:
		if err := w.draft.Write(); err != nil {
			return nil, writeError(err)
		}
		answer.Written = true
		if problem := w.keep(files, present.FirstLine(answer)); problem != "" {
			answer.Notes = append(answer.Notes, problem)
		}
	default:
		r.Then = func() error { return w.writeIfAgreed(at, files, answer) }
	}
	if w.wrap != nil {
		r.Answer = w.wrap(answer)
	}
	return r, done
}

// writeIfAgreed asks whether a change that was shown is to be made, and makes it.
func (w *work) writeIfAgreed(at *ask.Place, files []estatefile.FileChange, answer present.Answer) error {
	if at.Agree == nil {
		return ask.Errorf("not written: no terminal to ask on. Use --yes to apply, --preview to look")
	}
	if !at.Agree("\nApply this change?", "Nothing written.") {
		return ask.ErrWrong
	}
	if err := w.draft.Write(); err != nil {
		return writeError(err)
	}
	w.how.Tell("Written.")
	if problem := w.keep(files, present.FirstLine(answer)); problem != "" {
		w.how.Tell(problem)
	}
	return nil
}

func writeError(err error) error {
	if errors.Is(err, estatefile.ErrChanged) {
		return ask.Errorf("%w; nothing is written, look again", err)
	}
	return ask.Errorf("%w", err)
}

// throughLinks says which files are written outside the folder of the estate, as links in it lead there.
// Without a question that is refused unless it is asked for.
func (w *work) throughLinks(files []estatefile.FileChange) (notes []string) {
	folder := w.path
	if info, err := os.Stat(w.path); err == nil && !info.IsDir() {
		folder = filepath.Dir(w.path)
	}
	for _, f := range files {
		where, leaves := linkOutside(folder, f.File)
		if !leaves {
			continue
		}
		notes = append(notes, fmt.Sprintf("%s is a link out of the estate's folder, to %s", f.File, where))
		if w.refused == nil && w.how.Yes && !w.how.ThroughLinks {
			w.refused = ask.Errorf("%s is a link to %s, outside the estate's folder; nothing is written. "+
				"If that file is to be written: --through-links", f.File, where)
		}
	}
	return notes
}

// linkOutside returns where a file that is named below a folder really is, and whether that is outside
// of where the folder is.
func linkOutside(folder, name string) (where string, leaves bool) {
	below := func(folder, path string) bool {
		rest, err := filepath.Rel(folder, path)
		return err == nil && filepath.IsLocal(rest)
	}
	named, err := filepath.Abs(name)
	within, err2 := filepath.Abs(folder)
	if err != nil || err2 != nil || !below(within, named) {
		return "", false // what is named elsewhere should be there
	}
	where, err = localfile.Real(name)
	real, err2 := localfile.Real(folder)
	return where, err == nil && err2 == nil && !below(real, where)
}

// warnManaged reports groups that are managed elsewhere.
func (w *work) warnManaged(groups ...estate.ID) {
	by := map[string]int{}
	var systems []string
	for _, g := range groups {
		if system := w.Estate.Group(g).ManagedIn; system != "" {
			if by[system] == 0 {
				systems = append(systems, system)
			}
			by[system]++
		}
	}
	for _, system := range systems {
		what := w.Estate.Address(groups[0]).String() + " is"
		if len(groups) > 1 {
			what = fmt.Sprintf("%d of these groups are", by[system])
			if by[system] == 1 {
				what = "1 of these groups is"
			}
		}
		w.note("%s managed in %s. Export this change there (yorvet export), or the next import undoes it.", what, system)
	}
}

// warnTouched reports groups that changes are about and that are managed elsewhere.
func (w *work) warnTouched(changes []change.Change) {
	var groups []estate.ID
	met := map[estate.ID]bool{estate.None: true}
	for _, one := range changes {
		if g := one.About(w.Estate).Group; !met[g] {
			met[g] = true
			groups = append(groups, g)
		}
	}
	if len(groups) > 0 {
		w.warnManaged(groups...)
	}
}

// groups returns the groups that are meant: at least one.
func (w *work) groups(which ask.Groups) ([]estate.ID, error) {
	groups, err := w.Groups(which)
	if err == nil && len(groups) == 0 {
		err = ask.Errorf("no group matches; nothing is changed")
	}
	return groups, err
}
