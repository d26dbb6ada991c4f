package directory

import (
	"reflect"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
)

// A map can set whatever a membership says.
func TestMembershipSettingsAreMapped(t *testing.T) {
	for _, s := range estate.MembershipSettings() {
		var m ReferenceMap
		v := reflect.ValueOf(&m).Elem()
		for i := range v.NumField() {
			if name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("yaml"), ","); name == s.Name {
				v.Field(i).Set(reflect.ValueOf(&Value{}))
			}
		}
		if m.says(s.Name) == nil {
			t.Errorf("no key of members in a map sets %s", s.Name)
		}
	}
}
