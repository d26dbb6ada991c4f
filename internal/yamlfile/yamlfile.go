// Package yamlfile reads YAML files of settings strictly: what is unknown or of the
// wrong kind is an error with its place, and all such errors are reported at once.
package yamlfile

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/localfile"
)

// most is the size in bytes of a file that is read.
const most = 1 << 20

// Read reads the file at path into a struct.
func Read(ctx context.Context, path string, into any) ([]byte, error) {
	data, err := localfile.Read(ctx, path, most)
	if err != nil {
		return nil, err
	}
	return data, Decode(path, data, into)
}

// Decode reads YAML into a struct. name is that of the file, for messages, which
// begin with name:line:column.
func Decode(name string, data []byte, into any) error {
	if len(data) > most {
		return fmt.Errorf("%s: the file is larger than %d MiB", name, most>>20)
	}
	err := yaml.Load(data, into, yaml.WithKnownFields())
	var list *yaml.LoadErrors
	if errors.As(err, &list) && len(list.Errors) > 0 {
		var errs []error
		for _, one := range list.Errors {
			text := plain(one.Message, into)
			if own := (*Problem)(nil); errors.As(one, &own) {
				text = own.Text
			}
			errs = append(errs, fmt.Errorf("%s:%d:%d: %s", name, one.Mark.Line, one.Mark.Column, text))
		}
		return errors.Join(errs...)
	}
	if err != nil {
		return notYAML(name, err)
	}
	return nil
}

// A Problem is the error of a value that reads itself (UnmarshalYAML). Its text is
// shown as it is, so it quotes no secret.
type Problem struct{ Text string }

func (p *Problem) Error() string { return p.Text }

// The messages of package yaml, which quote what stands in the file: that may be a
// secret that somebody has written in place.
var (
	unknownField = regexp.MustCompile(`^field (\S+) not found in type (\S+)`)
	wrongKind    = regexp.MustCompile("(?s)^cannot construct (\\S+)( `.*`)? into (\\S+)")
	givenTwice   = regexp.MustCompile(`(?s)^mapping key "(.*)" already defined`)
	placed       = regexp.MustCompile(`(?s) at L(\d+)\.C(\d+)(?:-\S+)?: (.*)$`)
	quoting      = regexp.MustCompile("(?s)[`\"]|'[^'\\s]{2,}'")
	keyForm      = regexp.MustCompile(`^[A-Za-z][A-Za-z-]{0,30}$`)
)

// former are keys that are called otherwise now.
var former = map[string]string{
	"yorvet-lanes":   "yorvet-connections",
	"yorvet-conduct": "yorvet-faults",
	"trouble":        "faults",
	"facts":          "attributes",
	"digest":         "batch", // of alarms
}

// plain words a message of package yaml for people, without what it quotes.
func plain(message string, into any) string {
	known := keys(reflect.TypeOf(into), map[reflect.Type]bool{})
	if found := unknownField.FindStringSubmatch(message); found != nil {
		if fixed, ok := wantedKinds[found[2]]; ok || !keyForm.MatchString(found[1]) {
			return "unknown key" + expected(fixed)
		}
		if now := former[found[1]]; slices.Contains(known, now) {
			return fmt.Sprintf("%q is %q now", found[1], now)
		}
		if slices.Contains(known, found[1]) {
			return fmt.Sprintf("the key %q has no place here", found[1])
		}
		return fmt.Sprintf("unknown key %q", found[1]) + nearest.Hint(found[1], known)
	}
	if found := wrongKind.FindStringSubmatch(message); found != nil {
		given, ok := givenKinds[found[1]]
		if !ok {
			given = "a text"
		}
		return "this is " + given + expected(wanted(found[3]))
	}
	if found := givenTwice.FindStringSubmatch(message); found != nil {
		if slices.Contains(known, found[1]) {
			return fmt.Sprintf("the key %q is given twice", found[1])
		}
		return "a key is given twice"
	}
	if quoting.MatchString(message) {
		return "this is not as YAML wants it"
	}
	return message
}

func expected(what string) string {
	if what == "" {
		return ""
	}
	return ", expected " + what
}

// givenKinds are the words for the tags of values.
var givenKinds = map[string]string{
	"!!str":   "a text",
	"!!int":   "a number",
	"!!float": "a number",
	"!!bool":  "true or false",
	"!!seq":   "a list",
	"!!map":   "keys with values",
	"!!null":  "nothing",
}

// wantedKinds are the words for types that have a form of their own.
var wantedKinds = map[string]string{
	"secret.From":   "where the secret is: {environment: NAME}, {file: PATH} or {command: [PROGRAM, ...]}",
	"time.Duration": "a duration such as 5s",
}

// wanted returns the words for a type.
func wanted(name string) string {
	switch name = strings.TrimLeft(name, "*"); {
	case wantedKinds[name] != "":
		return wantedKinds[name]
	case name == "string":
		return "one text"
	case name == "bool":
		return "true or false"
	case strings.HasPrefix(name, "int"), strings.HasPrefix(name, "uint"), strings.HasPrefix(name, "float"):
		return "a number"
	case strings.HasPrefix(name, "[]"):
		return "a list"
	}
	return "keys with values"
}

// notYAML says where and why a file is no YAML at all.
func notYAML(name string, err error) error {
	found := placed.FindStringSubmatch(err.Error())
	switch {
	case found == nil:
		return fmt.Errorf("%s:1:1: this is not as YAML wants it", name)
	case strings.HasPrefix(found[3], "unknown anchor"):
		return fmt.Errorf(
			"%s:%s:%s: an alias (*) of an anchor (&) that is not there; a text that begins with * goes in quotes",
			name,
			found[1],
			found[2],
		)
	}
	return fmt.Errorf("%s:%s:%s: this is no YAML: %s", name, found[1], found[2], plain(found[3], struct{}{}))
}

// keys returns the keys that a type has, and those of the types within.
func keys(t reflect.Type, seen map[reflect.Type]bool) []string {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || seen[t] {
		return nil
	}
	seen[t] = true
	var names []string
	for field := range t.Fields() {
		if name, _, _ := strings.Cut(field.Tag.Get("yaml"), ","); name != "" {
			names = append(append(names, name), keys(field.Type, seen)...)
		}
	}
	return names
}

// Find returns the place of a key at the top of a file, or of the item with an
// index of the list that stands there, and 1, 1 if there is none.
func Find(data []byte, key string, index int) (line, column int) {
	var n yaml.Node
	if yaml.Load(data, &n) != nil || len(n.Content) == 0 {
		return 1, 1
	}
	top := n.Content[0]
	for i := 0; i+1 < len(top.Content); i += 2 {
		if top.Content[i].Value != key {
			continue
		}
		if value := top.Content[i+1]; value.Kind == yaml.SequenceNode && index < len(value.Content) {
			return value.Content[index].Line, value.Content[index].Column
		}
		return top.Content[i].Line, top.Content[i].Column
	}
	return 1, 1
}
