package ask

import (
	"errors"
	"fmt"
	"net"
	"regexp"
	"strings"

	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/store"
)

// Errorf returns an error about what is asked: a name, an option or a file that is wrong.
func Errorf(format string, args ...any) error {
	return fmt.Errorf("yorvet: "+format, args...)
}

// ErrWrong says that the answer has been given, and that something is wrong.
var ErrWrong = errors.New("something is wrong")

// ErrPart says that a source gave only a part of what it has.
var ErrPart = errors.New("yorvet: a source gave only a part of what it has; nothing is taken away for what " +
	"is missing")

// Network says that a server or the network failed.
func Network(err error) error { return fmt.Errorf("%w: %w", ErrNetwork, store.Reason(err)) }

// IsNetwork reports whether an error is that a server or the network failed.
func IsNetwork(err error) bool {
	var network *net.OpError
	return errors.Is(err, ErrNetwork) || errors.As(err, &network)
}

// ErrNetwork says that a server or the network failed.
var ErrNetwork = errors.New("yorvet: the network or a server failed")

// Unknown says that a word is none of those that are known: with the one that was meant, or
// else with all of them.
func Unknown(what, word string, known []string) error {
	if near := nearest.Word(word, known); near != "" {
		return Errorf("unknown %s %q; did you mean %q?", what, word, near)
	}
	return Errorf("unknown %s %q, expected %s", what, word, OrList(known))
}

// Meant returns "; did you mean X?", or "" if nothing is near.
func Meant(near ...string) string {
	if len(near) == 0 || near[0] == "" {
		return ""
	}
	return "; did you mean " + OrList(near) + "?"
}

// OrList joins words as in "a, b or c".
func OrList(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// Some names the first few of a list.
func Some(names []string) string {
	few := names[:min(len(names), 6)]
	said := strings.Join(few, ", ")
	if more := len(names) - len(few); more > 0 {
		said += fmt.Sprintf(" and %d more", more)
	}
	return said
}

// plainArg is an argument that a shell takes as it is.
var plainArg = regexp.MustCompile(`^[A-Za-z0-9@%+=:,./_-]+$`)

// Quoted returns arguments as a shell wants them.
func Quoted(args []string) []string {
	var list []string
	for _, arg := range args {
		if !plainArg.MatchString(arg) {
			arg = "'" + strings.ReplaceAll(arg, "'", `'\''`) + "'"
		}
		list = append(list, arg)
	}
	return list
}
