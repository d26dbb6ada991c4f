package estate

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/selector"
)

// A ValueError is a text that is no value of a setting.
type ValueError struct {
	Text    string // what is wrong, what was expected
	Nearest string // the word that may have been meant, or ""
}

func (e *ValueError) Error() string { return e.Text }

// Parse reads one value of a setting, or one item of a list of them. Of people and
// groups it reads the address. An error is a *ValueError or, of selectors and rules,
// a *selector.SyntaxError; the value is then the default.
func (s *Setting) Parse(text string) (Value, error) {
	switch s.Form {
	case FormWord:
		word, err := ParseWord(s.Words, text)
		return Value{Word: word}, err
	case FormFlag:
		flag, err := ParseFlag(text, s.Default == "true")
		return Value{Flag: flag}, err
	case FormNumber:
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 {
			return Value{}, &ValueError{Text: "expected a whole number of " + s.Unit + " from 1 up, not " + quote(text)}
		}
		return Value{Number: n}, nil
	case FormSelector, FormAccess:
		if now := map[string]string{"all": "anyone", "none": "nobody"}[text]; now != "" {
			return Value{}, &ValueError{Text: quote(text) + " is no selector; write " + now, Nearest: now}
		}
		x, err := selector.Parse(text, s.Scope)
		return Value{Rule: selector.Rule{Selector: x, Text: text}}, err
	case FormRules:
		rule, err := selector.ParseRule(text, s.Heads, s.Scope)
		return Value{Rule: rule}, err
	case FormDestination:
		return s.parseDestination(text)
	case FormAttributes:
		attribute, err := ParseAttribute(text)
		return Value{Attribute: attribute}, err
	case FormAddress, FormAddresses, FormParties:
		a, err := address.Parse(text)
		if err != nil {
			return Value{}, &ValueError{Text: err.Error()}
		}
		return Value{Address: a}, nil
	}
	return Value{Text: text}, nil
}

// parseDestination reads one of the words of a setting, or an address.
func (s *Setting) parseDestination(text string) (Value, error) {
	if strings.Contains(text, "@") {
		a, err := address.Parse(text)
		if err != nil {
			return Value{}, &ValueError{Text: err.Error()}
		}
		return Value{Address: a}, nil
	}
	word, err := ParseWord(s.Words, text)
	if bad, ok := errors.AsType[*ValueError](err); ok && bad.Nearest == "" {
		bad.Text = "expected " + strings.Join(s.Words, ", ") + " or an address, not " + quote(text)
	}
	return Value{Word: word}, err
}

// ParseFlag reads true or false; otherwise is returned apart from an error, which is a
// *ValueError.
func ParseFlag(text string, otherwise bool) (bool, error) {
	switch text {
	case "true", "True", "TRUE":
		return true, nil
	case "false", "False", "FALSE":
		return false, nil
	}
	return otherwise, &ValueError{Text: "expected true or false, not " + quote(text)}
}

// ParseWord returns the index of a text among the words of a setting. An error is a
// *ValueError.
func ParseWord(words []string, text string) (int, error) {
	i := slices.Index(words, text)
	if i < 0 || text == "" {
		if near := nearest.Word(text, words); near != "" {
			return 0, &ValueError{"unknown value " + quote(text), near}
		}
		return 0, &ValueError{Text: "expected " + orList(words) + ", not " + quote(text)}
	}
	return i, nil
}

// orList lists the words of a setting as "a, b or c".
func orList(words []string) string {
	if words[0] == "" {
		words = words[1:]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
