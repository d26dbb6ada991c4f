package estate

import (
	"sync/atomic"

	"yorvet.example/yorvet/internal/core/selector"
)

// A ruleKind says where a rule stands, and so how its text is read.
type ruleKind uint8

const (
	gateRule ruleKind = iota
	edgeRule
	sendAsRule
	accessRule
	notifyRule
)

// ruleTexts are the texts of all rules of an estate, each once. One that is read is parsed
// when it is asked for; several goroutines may ask.
type ruleTexts struct {
	texts   []ruleText
	numbers map[ruleText]int // of texts, while they are collected
	parsed  []atomic.Pointer[selector.Rule]
}

type ruleText struct {
	kind ruleKind
	text string
}

// number returns the number of a text, a new one if need be.
func (t *ruleTexts) number(kind ruleKind, text string) int {
	key := ruleText{kind, text}
	n, ok := t.numbers[key]
	if !ok {
		n = len(t.texts)
		t.texts, t.numbers[key] = append(t.texts, key), n
	}
	return n
}

// rule returns the rule whose text has a number; nil if there is none.
func (t *ruleTexts) rule(n int) *selector.Rule {
	if n >= len(t.texts) {
		return nil
	}
	if rule := t.parsed[n].Load(); rule != nil {
		return rule
	}
	rule, err := t.texts[n].parse()
	if err != nil {
		return nil
	}
	// All groups with this text have the same rule, which is parsed once.
	t.parsed[n].CompareAndSwap(nil, &rule)
	return t.parsed[n].Load()
}

func (r ruleText) parse() (selector.Rule, error) {
	switch r.kind {
	case gateRule:
		return selector.ParseRule(r.text, verdictWords, selector.ForMessages)
	case edgeRule:
		return selector.ParseRule(r.text, verdictWords, selector.ForEdge)
	case sendAsRule:
		return selector.ParseRule(r.text, sendAsWords[1:], selector.ForPeople)
	}
	scope := selector.ForPeople
	if r.kind == notifyRule {
		scope = selector.ForMessages
	}
	x, err := selector.Parse(r.text, scope)
	return selector.Rule{Selector: x, Text: r.text}, err
}

// code codes the texts.
func (t *ruleTexts) code(c *coder) {
	list(c, &t.texts, func(r *ruleText) {
		number(c, &r.kind)
		c.text(&r.text)
	})
	if c.reading {
		t.parsed = make([]atomic.Pointer[selector.Rule], len(t.texts))
	}
}
