package exchange

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"kindredgate/internal/grammar"
)

// fill gives every field of v a value that is not zero, each another one, so that a field without its place in the written form is
// found whoever adds it.
func fill(v reflect.Value, n *int) {
	*n++
	switch v.Type() {
	case reflect.TypeFor[json.RawMessage]():
		v.SetBytes(fmt.Appendf(nil, `{"minimum":%d}`, *n))
		return
	case reflect.TypeFor[*grammar.Schema]():
		return // it is made again
	case reflect.TypeFor[[]Part]():
		v.Set(reflect.ValueOf([]Part{Text(fmt.Sprint("<text> ", *n)), ToolCall{"id", "name", `{"a": 1}`, "server"}, ToolResult{"id", "content", "server/name"}, Image{URL: "data:,", Detail: "low", At: "at"}, Text("")}))
		return
	case reflect.TypeFor[Score](): // which may hold a part of a character
		v.Set(reflect.ValueOf(Score{Text: "\xe2\x82", LogProb: -0.5, Top: []Score{{Text: "€", LogProb: -1}, {Text: "\xff"}}}))
		return
	case reflect.TypeFor[Role]():
		v.SetString(string(ToolRole))
		return
	case reflect.TypeFor[FormatKind]():
		v.SetString(string(FormatSchema))
		return
	case reflect.TypeFor[Reason]():
		v.SetString(string(Called))
		return
	}
	switch v.Kind() {
	case reflect.Func:
		return // a gate sets it
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int32, reflect.Int64:
		v.SetInt(int64(*n%4 + 1))
	case reflect.Float64:
		v.SetFloat(float64(*n) + 0.1)
	case reflect.String:
		v.SetString(fmt.Sprint("text ", *n))
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), n)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range v.Len() {
			fill(v.Index(i), n)
		}
	case reflect.Map:
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(key, n)
		fill(value, n)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(key, value)
	case reflect.Struct:
		for i := range v.NumField() {
			fill(v.Field(i), n)
		}
	default:
		panic("a field of a kind that the test does not know: " + v.Type().String())
	}
}

func TestAllOfARequestIsWrittenDown(t *testing.T) {
	var whole Request
	n := 0
	fill(reflect.ValueOf(&whole).Elem(), &n)
	for name, r := range map[string]Request{
		"whole":   whole,
		"nothing": {},
		"empty lists are not nil ones": {
			Raw: &Raw{Tokens: []int32{}}, Choice: Choice{Names: []string{}}, Scores: new(int), Turns: []Turn{{Role: User, Parts: []Part{}}, {Role: User}},
		},
	} {
		doc, err := r.Encode()
		if err != nil {
			t.Fatal(name, err)
		}
		got, err := DecodeRequest(doc)
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, doc)
		}
		r.Owner, r.Share, r.Fingerprint, r.Via, r.Trace = "", 0, "", nil, ""
		for i := range r.Servers { // what may be secret is not written
			r.Servers[i].URL, r.Servers[i].Headers = "", nil
		}
		if !reflect.DeepEqual(*got, r) {
			t.Errorf("%s became\n%+v, not\n%+v, by\n%s", name, *got, r, doc)
		}
	}
}

func TestAllOfAnEventIsWrittenDown(t *testing.T) {
	for _, e := range []any{&Started{}, &ReasoningDelta{}, &TextDelta{}, &ToolCallDelta{}, &Finish{}, &ToolsListed{}, &StepBegan{}, &StepEnded{}, &RunDelta{}, &RunEnded{}, &ApprovalWanted{}} {
		v := reflect.ValueOf(e).Elem()
		n := 0
		fill(v, &n)
		doc, err := EncodeEvent(v.Interface().(Event))
		if err != nil {
			t.Fatal(err)
		}
		got, err := DecodeEvent(doc)
		if err != nil || !reflect.DeepEqual(got, v.Interface()) {
			t.Errorf("%+v became %+v, %v, by\n%s", v.Interface(), got, err, doc)
		}
	}
	if doc, err := EncodeEvent(nil); err == nil {
		t.Errorf("no event is written as %s", doc)
	}
}

func TestWhatIsNotKnownIsNotRead(t *testing.T) {
	for doc, want := range map[string]string{
		`{"turns":[{"role":"judge"}]}`:                                     `turn 0: role "judge"`,
		`{"turns":[{"role":"user","preset":1}]}`:                           "1 of 0 parts",
		`{"turns":[{"role":"user","parts":[{"sound":{}}]}]}`:               "sound",
		`{"turns":[{"role":"user","parts":[{}]}]}`:                         "part 0: one kind was expected, and 0 are there",
		`{"turns":[{"role":"user","parts":[{"text":"","tool_call":{}}]}]}`: "part 0: one kind was expected, and 2 are there",
		`{"turns":[{"mood":"good"}]}`:                                      "mood",
		`{"format":{"kind":"verse"}}`:                                      `"verse"`,
		`{"sampling":{"warmth":1}}`:                                        "warmth",
		`{} {}`:                                                            "more behind its end",
		`{"model":`:                                                        "unexpected EOF",
	} {
		if r, err := DecodeRequest([]byte(doc)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s is read as %+v, %v; wanted %q", doc, r, err, want)
		}
	}
	for doc, want := range map[string]string{
		`{}`:                            "0 are there",
		`{"text":{},"started":{}}`:      "2 are there",
		`{"finish":{"reason":"bored"}}`: `"bored"`,
		`{"text":{"colour":"red"}}`:     "colour",
		`null`:                          "0 are there",
	} {
		if e, err := DecodeEvent([]byte(doc)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s is read as %+v, %v; wanted %q", doc, e, err, want)
		}
	}
}

func FuzzDecode(f *testing.F) {
	var whole Request
	n := 0
	fill(reflect.ValueOf(&whole).Elem(), &n)
	doc, err := whole.Encode()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(doc)
	f.Add([]byte(`{"text":{"text":"a","scores":[{"bytes":"/w==","logprob":-1}]}}`))
	f.Add([]byte(`{"finish":{"reason":"stop","tokens":3}}`))
	f.Fuzz(func(t *testing.T, doc []byte) {
		// What can be read is written down in one way, which stays.
		if r, err := DecodeRequest(doc); err == nil {
			first, err := r.Encode()
			if err != nil {
				t.Fatal(err)
			}
			again, err := DecodeRequest(first)
			if err != nil {
				t.Fatalf("%s: %v", first, err)
			}
			if second, err := again.Encode(); err != nil || !bytes.Equal(first, second) {
				t.Fatalf("%s became %s, %v", first, second, err)
			}
		}
		if e, err := DecodeEvent(doc); err == nil {
			first, err := EncodeEvent(e)
			if err != nil {
				t.Fatal(err)
			}
			if again, err := DecodeEvent(first); err != nil || !reflect.DeepEqual(again, e) {
				t.Fatalf("%+v became %+v, %v", e, again, err)
			}
		}
	})
}
