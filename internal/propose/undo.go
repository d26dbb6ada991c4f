package propose

import (
	"errors"
	"os"
	"os/user"
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/undo"
)

// keep keeps a change that was written, so that it can be taken back. It returns what to say
// where that is not so.
func (w *work) keep(files []estatefile.FileChange, says string) (problem string) {
	store, err := undo.Open(w.path)
	if err == nil {
		kept := undo.WrittenChange{Time: clock.Now().UTC().Truncate(time.Second), User: userName(),
			Command: w.how.Command, Says: says, Undoes: w.undoes}
		for _, f := range files {
			one, failed := undo.NewFile(f.File, f.Before, f.Later)
			err = errors.Join(err, failed)
			kept.Files = append(kept.Files, one)
		}
		if err == nil {
			_, err = store.Keep(kept)
		}
	}
	if err != nil {
		return "This change is not kept, and yorvet undo will not know of it: " + err.Error()
	}
	return ""
}

// userName is who runs the program.
func userName() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return os.Getenv("USER")
}

// Undo puts the lines of a change back.
type Undo struct {
	Number int // of the change; 0: the last one
}

func (x *Undo) propose(w *work) error {
	number := x.Number
	store, err := undo.Open(w.path)
	if err != nil {
		return ask.Errorf("%w", err)
	}
	var kept *undo.WrittenChange
	if number > 0 {
		kept, err = store.Get(number)
	} else {
		kept, err = store.Last()
	}
	switch {
	case errors.Is(err, undo.ErrNone) && number > 0:
		return ask.Errorf("there is no change %d; yorvet changes lists them", number)
	case errors.Is(err, undo.ErrNone):
		return ask.Errorf("no change of %s is kept that could be taken back", w.path)
	case err != nil:
		return ask.Errorf("%w", err)
	}
	for i := range kept.Files {
		f := &kept.Files[i]
		if err := w.draft.Rewrite(f.Path, f.Revert); err != nil {
			if conflict, ok := errors.AsType[*undo.Conflict](err); ok {
				return ask.Errorf("%s:%d: these lines have changed since change %d; nothing is written. Take back what came later "+
					"first, or change them by hand", localfile.Short(conflict.Path), conflict.Line, kept.Number)
			}
			return ask.Errorf("%w", err)
		}
	}
	w.undoes = kept.Number
	w.about = "Takes back change " + strconv.Itoa(kept.Number) + ": yorvet " + strings.Join(ask.Quoted(kept.Command), " ")
	return nil
}
