package embedding

import (
	"testing"

	"kindredgate/internal/exchange"
)

func FuzzDecode(f *testing.F) {
	for _, s := range []string{`{"model":"m","input":"x"}`, `{"model":"m","input":["x",[1]],"encoding_format":"base64","dimensions":3}`, `{"model":"m","input":[[]]}`, `{"model":"m","input":[-1]}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		c, err := Decode(body)
		if err != nil {
			if e := exchange.AsError(err); e.Kind != exchange.Invalid || e.Message == "" {
				t.Errorf("%q: %v", body, err)
			}
			return
		}
		if len(c.Inputs) == 0 || len(c.Inputs) > maxInputs || c.Dimensions < 0 {
			t.Errorf("%q: %+v", body, c)
		}
	})
}
