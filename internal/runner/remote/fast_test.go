package remote

import (
	"encoding/json"
	"testing"
)

// agrees holds what is read the short way to what encoding/json reads.
func agrees(t *testing.T, data []byte) (taken bool) {
	t.Helper()
	index, text, ok := textPiece(data)
	if !ok {
		return false
	}
	var c chatChunk
	if err := json.Unmarshal(data, &c); err != nil {
		t.Fatalf("%s is taken, and is no JSON: %v", data, err)
	}
	if len(c.Choices) != 1 || c.Choices[0].Index != index || c.Usage != nil || len(c.Error) > 0 && string(c.Error) != "null" || c.Choices[0].FinishReason != nil || c.Choices[0].Logprobs != nil ||
		len(c.Choices[0].Delta.ToolCalls) > 0 || c.Choices[0].Delta.ReasoningContent != "" || c.Choices[0].Delta.Reasoning != "" || c.Choices[0].Delta.Refusal != nil || c.Choices[0].Message.Content != nil {
		t.Fatalf("%s has more than text", data)
	}
	if got := c.Choices[0].Delta.Content; got == nil && len(text) > 0 || got != nil && *got != string(text) {
		t.Fatalf("%s: %q", data, text)
	}
	return true
}

var pieceCases = map[string]bool{
	`{"id":"c","object":"chat.completion.chunk","created":1893456000,"model":"m","choices":[{"index":2,"delta":{"content":" boat"},"logprobs":null,"finish_reason":null}],"usage":null}`: true,
	`{ "choices" : [ { "delta" : { "role" : "assistant" , "content" : "é" } , "index" : 0 } ] }`:                                                                                         true,
	`{"choices":[{"index":0,"delta":{"content":"a"},"finish_reason":"stop"}]}`:                                                                                                           false,
	`{"choices":[{"index":0,"delta":{"content":"a\n"}}]}`:                                                                                                                                false,
	`{"choices":[{"index":0,"delta":{"content":"a","tool_calls":[]}}]}`:                                                                                                                  false,
	`{"choices":[{"index":0,"delta":{"content":"a","reasoning_content":"b"}}]}`:                                                                                                          false,
	`{"choices":[{"index":0,"delta":{"content":"a"}}],"usage":{"prompt_tokens":1}}`:                                                                                                      false,
	`{"choices":[{"index":0,"delta":{"content":"a"}}],"error":{"message":"x"}}`:                                                                                                          false,
	`{"choices":[{"index":0,"delta":{"content":"a"}},{"index":1,"delta":{"content":"b"}}]}`:                                                                                              false,
	`{"choices":[{"index":0,"delta":{"content":"a"},"logprobs":{"content":[]}}]}`:                                                                                                        false,
	`{"choices":[]}`:                                                 false,
	`{"choices":[{"index":1.5,"delta":{}}]}`:                         false,
	`{"choices":[{"index":0,"delta":{"content":"a"}}]} x`:            false,
	`{"choices":[{"index":0,"delta":{"content":"a"}}],}`:             false,
	`{"choices":[{"index":00,"delta":{"content":"a"}}]}`:             false,
	`{"nullx":nullx,"choices":[{"index":0,"delta":{}}]}`:             false,
	"{\"choices\":[{\"index\":0,\"delta\":{\"content\":\"\xff\"}}]}": false,
}

func TestTextPieces(t *testing.T) {
	for data, want := range pieceCases {
		if got := agrees(t, []byte(data)); got != want {
			t.Errorf("%s: taken is %v", data, got)
		}
	}
}

func FuzzTextPiece(f *testing.F) {
	for data := range pieceCases {
		f.Add([]byte(data))
	}
	f.Fuzz(func(t *testing.T, data []byte) { agrees(t, data) })
}
