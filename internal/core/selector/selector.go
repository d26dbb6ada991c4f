// Package selector is the small language that says who, and which message:
//
//	selector = term { "or" term }
//	term     = factor { "and" factor }
//	factor   = "not" factor | "(" selector ")" | atom
//
// It holds the tree, its parser and the filters of RFC 4515 that stand in it.
// What an atom means for a sender is decided elsewhere, through the callbacks
// of Eval and Witness: a selector knows no estate.
package selector

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
)

// An Expr is a selector or a part of one: Or, And, Not or *Atom.
type Expr interface {
	// String returns the expression in the selector language, with no more
	// parentheses than it needs. Parse reads it back.
	String() string
	expr()
}

// Or is true when one of its two or more terms is.
type Or []Expr

// And is true when all of its two or more factors are.
type And []Expr

// Not is true when X is not.
type Not struct{ X Expr }

// A Kind tells what an Atom asks.
type Kind uint8

// The kinds of atoms. Those from Unproven on are about the message, the others
// about its sender.
const (
	Anyone     Kind = iota // always true
	Nobody                 // never true
	Inside                 // in a domain of the estate, and proven
	Outside                // not Inside
	Known                  // a person or group of the estate
	Members                // a member of the group at hand
	Owners                 // an owner of it
	Moderators             // a moderator of it
	Newcomers              // a direct member of it for less than Days
	In                     // a member of the group Address
	Is                     // the person, group or mailbox Address
	At                     // claimed from Domain exactly
	Below                  // claimed from a domain below Domain
	Where                  // a person that Filter matches
	Unproven               // nothing shows that the sender is who they claim
	Suspect                // flagged by upstream filtering
	Automatic              // sent by a program (RFC 3834)
	Invitation             // a calendar request (RFC 5546, METHOD:REQUEST)
	Larger                 // bigger than Size
)

// AboutMessage reports whether k asks about the message, not about who sends it.
func (k Kind) AboutMessage() bool { return k >= Unproven }

// AboutGroup reports whether k asks about the people of the group that it stands in.
func (k Kind) AboutGroup() bool { return k >= Members && k <= Newcomers }

// words are the kinds that are written as one word.
var words = map[string]Kind{
	"anyone": Anyone, "nobody": Nobody, "inside": Inside, "outside": Outside, "known": Known,
	"members": Members, "owners": Owners, "moderators": Moderators,
	"unproven": Unproven, "suspect": Suspect, "automatic": Automatic, "invitation": Invitation,
}

// vocabulary lists every word of the language, for suggestions.
var vocabulary = []string{
	"anyone", "nobody", "inside", "outside", "known", "members", "owners", "moderators", "newcomers", "in",
	"where", "unproven", "suspect", "automatic", "invitation", "larger", "not", "and", "or",
}

// An Atom is one question about the sender or the message.
type Atom struct {
	Kind    Kind
	Text    string          // as written
	Offset  int             // where Text begins, in bytes of the parsed text
	Address address.Address // for In and Is
	Domain  string          // for At and Below: lower-case A-labels
	Filter  Filter          // for Where
	Days    int             // for Newcomers
	Size    int64           // for Larger: octets
}

func (Or) expr()    {}
func (And) expr()   {}
func (Not) expr()   {}
func (*Atom) expr() {}

func (x Or) String() string { return joined(x, " or ", false) }

func (x And) String() string { return joined(x, " and ", true) }

func joined(list []Expr, word string, inAnd bool) string {
	var parts []string
	for _, x := range list {
		_, or := x.(Or)
		_, and := x.(And)
		if or || and && inAnd {
			parts = append(parts, "("+x.String()+")")
		} else {
			parts = append(parts, x.String())
		}
	}
	return strings.Join(parts, word)
}

func (x Not) String() string {
	switch x.X.(type) {
	case Or, And:
		return "not (" + x.X.String() + ")"
	}
	return "not " + x.X.String()
}

func (a *Atom) String() string {
	switch a.Kind {
	case Newcomers:
		return "newcomers(" + strconv.Itoa(a.Days) + "d)"
	case In:
		return "in " + a.Address.String()
	case Is:
		return a.Address.String()
	case At:
		return "@" + a.Domain
	case Below:
		return "@*." + a.Domain
	case Where:
		return "where " + a.Filter.String()
	case Larger:
		return "larger(" + strconv.FormatInt(a.Size, 10) + ")"
	}
	for word, kind := range words {
		if kind == a.Kind {
			return word
		}
	}
	return ""
}

// Eval reports whether x is true when ask answers its atoms. It asks no more
// than it needs, from left to right.
func Eval(x Expr, ask func(*Atom) bool) bool {
	switch x := x.(type) {
	case Or:
		for _, term := range x {
			if Eval(term, ask) {
				return true
			}
		}
		return false
	case And:
		for _, factor := range x {
			if !Eval(factor, ask) {
				return false
			}
		}
		return true
	case Not:
		return !Eval(x.X, ask)
	case *Atom:
		return ask(x)
	}
	panic("selector: no expression")
}

// A Truth is an atom and whether it is true.
type Truth struct {
	Atom *Atom
	True bool
}

// Witness returns the value of x and the answers that settle it, from left to
// right: anyone who sees them knows the value without asking anything else.
func Witness(x Expr, ask func(*Atom) bool) (bool, []Truth) {
	switch x := x.(type) {
	case Or:
		return settle(x, true, ask)
	case And:
		return settle(x, false, ask)
	case Not:
		value, answers := Witness(x.X, ask)
		return !value, answers
	case *Atom:
		value := ask(x)
		return value, []Truth{{x, value}}
	}
	panic("selector: no expression")
}

// settle looks for the first of parts whose value is decisive; it alone settles
// the whole. Without one, all parts do.
func settle(parts []Expr, decisive bool, ask func(*Atom) bool) (bool, []Truth) {
	var all []Truth
	for _, x := range parts {
		value, answers := Witness(x, ask)
		if value == decisive {
			return value, answers
		}
		all = append(all, answers...)
	}
	return !decisive, all
}

// Atoms calls visit for every atom of x, from left to right.
func Atoms(x Expr, visit func(*Atom)) {
	switch x := x.(type) {
	case Or:
		for _, term := range x {
			Atoms(term, visit)
		}
	case And:
		for _, factor := range x {
			Atoms(factor, visit)
		}
	case Not:
		Atoms(x.X, visit)
	case *Atom:
		visit(x)
	}
}
