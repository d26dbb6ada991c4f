package directory

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/yamlfile"
)

// A RuleMap says which rules of a gate, or of send-as, come of a record: a rule as it
// stands, one that a filter decides about, or those for the words of an attribute. {name}
// in a rule stands for the selectors that a list in that attribute comes to: addresses of
// people, "in" a group, and domains.
type RuleMap struct {
	When condition
	Say  Names
	As   *Value

	mark mark
}

// UnmarshalYAML reads one text, or keys.
func (r *RuleMap) UnmarshalYAML(node *yaml.Node) error {
	*r = RuleMap{mark: markOf(node)}
	if node.Kind != yaml.MappingNode {
		var err error
		r.Say, err = textsOf(node)
		return err
	}
	var keys struct {
		When      condition `yaml:"when"`
		Say       Names     `yaml:"say"`
		From      Names     `yaml:"from"`
		As        yaml.Node `yaml:"as"`
		Otherwise yaml.Node `yaml:"otherwise"`
		Optional  bool      `yaml:"optional"`
	}
	if err := node.Load(&keys, yaml.WithKnownFields()); err != nil {
		return err
	}
	r.When, r.Say = keys.When, keys.Say
	switch {
	case (len(keys.From) > 0) == (len(r.Say) > 0):
		return &yamlfile.Problem{Text: "a rule needs say, or from with as"}
	case len(keys.From) > 0:
		r.As = &Value{From: keys.From, mark: r.mark}
		if err := r.As.words(&keys.As, &keys.Otherwise); err != nil {
			return err
		}
		if len(r.As.As) == 0 {
			return &yamlfile.Problem{Text: "a rule from an attribute needs as, {WORD: RULE, ...}"}
		}
	}
	return nil
}

// said returns all texts that the rules can come of.
func (r *RuleMap) said() []Meaning {
	if r.As != nil {
		return r.As.said()
	}
	return []Meaning{{Values: r.Say, mark: r.mark}}
}

// placeholder is {name} in a rule of a map.
var placeholder = regexp.MustCompile(`\{([^{}]+)\}`)

// aboutList is a rule about a list and nothing else.
var aboutList = regexp.MustCompile(`^[a-z]+ \{[^{}]+\}$`)

// ruleProblem returns what is wrong with a rule of a map, or "".
func ruleProblem(setting *estate.Setting, text string) string {
	_, err := setting.Parse(placeholder.ReplaceAllString(text, "@a.example"))
	if err == nil {
		return ""
	}
	return fmt.Sprintf("%q is no rule of %s: %s", text, setting.Name, reason(err))
}

// reason returns what is wrong, without the text around it.
func reason(err error) string {
	if syntax, ok := errors.AsType[*selector.SyntaxError](err); ok {
		return syntax.Reason
	}
	return err.Error()
}

// A pending rule waits for all groups to be known, so that lists can say which of their
// addresses are groups.
type pendingRule struct {
	setting string
	text    string
	lists   map[string][]string // by name in text
	line    int
}

// rules notes the rules that come of a record.
func (c *Collector) rules(e *Entry, g *Group, name string, maps []RuleMap) {
	for i := range maps {
		m := &maps[i]
		if !m.When.matches(e) {
			continue
		}
		texts := []string(m.Say)
		if m.As != nil {
			texts = c.value(e, m.As)
		}
		for _, text := range texts {
			if p, ok := c.pending(e, name, text); ok {
				g.pending = append(g.pending, p)
			}
		}
	}
}

// pending returns a rule with the lists that stand in it. A rule about a list that is empty
// is none.
func (c *Collector) pending(e *Entry, setting, text string) (pendingRule, bool) {
	p := pendingRule{setting: setting, text: text, line: e.Line}
	for _, found := range placeholder.FindAllStringSubmatch(text, -1) {
		var list []string
		for _, value := range e.values(found[1]) {
			list = append(list, splitAddresses(value)...)
		}
		if len(list) == 0 {
			return p, false
		}
		if p.lists == nil {
			p.lists = map[string][]string{}
		}
		p.lists[found[1]] = list
	}
	return p, true
}

// splitAddresses returns the addresses and domains in a text, whatever separates them.
func splitAddresses(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(";,|\n\r\t ", r) })
}

// finishRules makes rules of a group of what waits for all groups to be known.
func (c *Collector) finishRules(g *Group, groups map[string]bool) {
	lists := map[string][]string{}
	for _, p := range g.pending {
		setting, _ := estate.GroupSetting(p.setting)
		alone := aboutList.MatchString(p.text)
		text := placeholder.ReplaceAllStringFunc(p.text, func(found string) string {
			var parts []string
			for _, one := range p.lists[found[1:len(found)-1]] {
				part := selectorOf(one, groups)
				if part == "" {
					c.problem(p.line, fmt.Sprintf("%q in %s of %s is no address and no domain", one, found, g.Address))
					continue
				}
				if !slices.Contains(parts, part) {
					parts = append(parts, part)
				}
			}
			if len(parts) == 1 || alone {
				return strings.Join(parts, " or ")
			}
			return "(" + strings.Join(parts, " or ") + ")"
		})
		if _, err := setting.Parse(text); err != nil {
			c.problem(p.line, fmt.Sprintf("%s of %s: %q: %s", p.setting, g.Address, text, reason(err)))
			continue
		}
		lists[p.setting] = append(lists[p.setting], text)
	}
	g.pending = nil
	for _, name := range []string{"gate", "send-as"} {
		if lists[name] != nil {
			g.Settings = setField(g.Settings, fieldOfList(name, lists[name]))
		}
	}
}

// selectorOf returns the selector for an address, a group, or a domain with or without @.
func selectorOf(text string, groups map[string]bool) string {
	text = strings.Trim(text, `"'<>`)
	if rest, ok := strings.CutPrefix(text, "@"); ok || !strings.Contains(text, "@") {
		if rest == "" || !strings.Contains(rest, ".") {
			return ""
		}
		return "@" + rest
	}
	if a, _, ok := parsed(text); ok {
		if groups[key(a)] {
			return "in " + a
		}
		return a
	}
	return ""
}
