package cli

import "testing"

// A refusal is shown as what the model says, whole and in pieces, and a cut answer tells what cut it.
func TestRefusalsAreShown(t *testing.T) {
	for _, c := range []struct {
		read func([]byte) (increment, error)
		raw  string
		want increment
	}{
		{choicesPiece, `{"choices":[{"delta":{"refusal":"No."},"finish_reason":null}]}`, increment{text: "No."}},
		{choicesPiece, `{"choices":[{"delta":{},"finish_reason":"content_filter"}]}`, increment{finish: "content_filter"}},
		{responsePiece, `{"type":"response.refusal.delta","delta":"No."}`, increment{text: "No."}},
		{responsePiece, `{"type":"response.incomplete","response":{"incomplete_details":{"reason":"content_filter"}}}`, increment{finish: "content_filter"}},
		{responsePiece, `{"type":"response.incomplete","response":{"incomplete_details":{"reason":"max_output_tokens"}}}`, increment{finish: "length"}},
	} {
		if got, err := c.read([]byte(c.raw)); err != nil || got != c.want {
			t.Errorf("%s: %+v, %v", c.raw, got, err)
		}
	}
	if got, err := choicesText([]byte(`{"choices":[{"message":{"content":null,"refusal":"No."}}]}`)); err != nil || got != "No." {
		t.Errorf("%q, %v", got, err)
	}
}
