package estate

import "yorvet.example/yorvet/internal/core/selector"

// gateDefault is the one rule of the gate of a group that has none written, and
// defaultGate that gate.
const gateDefault = "admit inside"

var defaultGate = []GateRule{{Verdict: Admit, Selector: atom(selector.Inside, "inside"), Text: gateDefault}}

// defaultAccess is what the access setting of a group says by default.
var defaultAccess = [actions]SelectorRule{
	Find:       {Selector: atom(selector.Inside, "inside"), Text: "inside"},
	Join:       {Selector: atom(selector.Nobody, "nobody"), Text: "nobody"},
	Ask:        {Selector: atom(selector.Nobody, "nobody"), Text: "nobody"},
	Read:       {Selector: atom(selector.Members, "members"), Text: "members"},
	SeeMembers: {Selector: atom(selector.Members, "members"), Text: "members"},
	Manage:     {Selector: atom(selector.Owners, "owners"), Text: "owners"},
}

// defaultNotify is what notify-sender says by default.
var defaultNotify = SelectorRule{Selector: atom(selector.Anyone, "anyone"), Text: "anyone"}

func atom(kind selector.Kind, text string) selector.Expr {
	return &selector.Atom{Kind: kind, Text: text}
}
