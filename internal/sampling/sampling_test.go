package sampling

import (
	"reflect"
	"slices"
	"testing"
)

// Every setting that is open is taken from the other, and none that is not: a field that is added and forgotten shows here.
func TestOr(t *testing.T) {
	var mine, other Settings
	for i := range reflect.TypeFor[Settings]().NumField() {
		f := reflect.ValueOf(&other).Elem().Field(i)
		f.Set(reflect.New(f.Type().Elem()))
		if got := mine.Or(other); !reflect.ValueOf(got).Field(i).Equal(f) {
			t.Errorf("%s is not taken", reflect.TypeFor[Settings]().Field(i).Name)
		}
		own := reflect.ValueOf(&mine).Elem().Field(i)
		own.Set(reflect.New(own.Type().Elem()))
		if got := mine.Or(other); !reflect.ValueOf(got).Field(i).Equal(own) {
			t.Errorf("%s is replaced", reflect.TypeFor[Settings]().Field(i).Name)
		}
	}
	if n := len(mine.List()); n != reflect.TypeFor[Settings]().NumField() {
		t.Errorf("%d settings are listed", n)
	}
}

func TestList(t *testing.T) {
	warm, k := 0.7, 40
	got := Settings{Temperature: &warm, TopK: &k}.List()
	if want := []Named{{"temperature", 0.7}, {"top_k", 40}}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}
