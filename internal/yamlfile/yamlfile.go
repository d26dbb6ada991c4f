// Package yamlfile reads YAML files of settings strictly: what is unknown or of the
// wrong kind is an error with its place, and all such errors are told at once.
package yamlfile

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"regexp"
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
			errs = append(errs, fmt.Errorf("%s:%d:%d: %s", name, one.Mark.Line, one.Mark.Column, plain(one.Message, into)))
		}
		return errors.Join(errs...)
	}
	if err != nil {
		return fmt.Errorf("%s: %s", name, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	return nil
}

var unknownField = regexp.MustCompile(`^field (\S+) not found in type `)

// plain words a message of package yaml for people.
func plain(message string, into any) string {
	found := unknownField.FindStringSubmatch(message)
	if found == nil {
		return message
	}
	return fmt.Sprintf("unknown key %q", found[1]) + nearest.Hint(found[1], keys(reflect.TypeOf(into), map[reflect.Type]bool{}))
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
// index of the list that stands there, and 1, 1 where there is none.
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
