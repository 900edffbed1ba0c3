// Package snippet writes a request as a program, or a command line, that sends it.
//
// The key is taken from the environment, so that what is copied holds no secret. Programs use nothing beyond what their
// language comes with.
package snippet

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
)

// KeyVariable is the environment variable that snippets take the key from.
const KeyVariable = "KINDRED_KEY"

// Style is a style of request, with the way to the text in its answer in each language.
type Style struct {
	dialect.Style

	python, javascript, golang, csharp string
	answer                             string // of what Go reads the answer into
}

// Styles are the styles of request.
var Styles = []Style{
	{Style: dialect.Chat,
		python: `answer["choices"][0]["message"]["content"]`, javascript: `answer.choices[0].message.content`,
		golang: `fmt.Println(answer.Choices[0].Message.Content)`, answer: "Choices []struct{ Message struct{ Content string } }",
		csharp: `answer.GetProperty("choices")[0].GetProperty("message").GetProperty("content")`},
	{Style: dialect.Generate,
		python: `answer["text"]`, javascript: `answer.text`, golang: `fmt.Println(answer.Text)`, answer: "Text string",
		csharp: `answer.GetProperty("text")`},
	{Style: dialect.Response,
		python:     `next(i for i in answer["output"] if i["type"] == "message")["content"][0]["text"]`,
		javascript: `answer.output.find((i) => i.type === "message").content[0].text`,
		golang: `for _, item := range answer.Output {
		for _, part := range item.Content {
			if part.Type == "output_text" {
				fmt.Println(part.Text)
			}
		}
	}`, answer: "Output []struct{ Content []struct{ Type, Text string } }",
		csharp: `answer.GetProperty("output").EnumerateArray().First(i => i.GetProperty("type").GetString() == "message").GetProperty("content")[0].GetProperty("text")`},
	{Style: dialect.Completion,
		python: `answer["choices"][0]["text"]`, javascript: `answer.choices[0].text`,
		golang: `fmt.Println(answer.Choices[0].Text)`, answer: "Choices []struct{ Text string }",
		csharp: `answer.GetProperty("choices")[0].GetProperty("text")`},
	{Style: dialect.Embedding,
		python: `answer["data"][0]["embedding"]`, javascript: `answer.data[0].embedding`,
		golang: `fmt.Println(answer.Data[0].Embedding)`, answer: "Data []struct{ Embedding []float32 }",
		csharp: `answer.GetProperty("data")[0].GetProperty("embedding")`},
}

// Language is what a snippet is written in. Of curl there are three, by the shell that is to take it.
type Language struct {
	Name  string
	write func(s Style, url string, body json.RawMessage) string
}

// Languages are what snippets can be written in.
var Languages = []Language{
	{"curl", posix},
	{"powershell", powershell},
	{"cmd", cmd},
	{"python", python},
	{"javascript", javascript},
	{"go", golang},
	{"csharp", csharp},
}

// Names lists the names of styles and languages.
func Names() (styles, languages []string) {
	for _, s := range Styles {
		styles = append(styles, string(s.Style))
	}
	for _, l := range Languages {
		languages = append(languages, l.Name)
	}
	return styles, languages
}

// Write writes a request to the gate at a base URL, whose body must be a JSON object. An unknown style or language is an
// [exchange.Error].
func Write(style, language, base string, body json.RawMessage) (string, error) {
	styles, languages := Names()
	if language == "js" {
		language = "javascript"
	}
	s, l := slices.Index(styles, style), slices.Index(languages, language)
	switch {
	case s < 0:
		return "", exchange.InvalidParam("style", "there is no style %q; these are: %s", style, strings.Join(styles, ", "))
	case l < 0:
		return "", exchange.InvalidParam("language", "there is no language %q; these are: %s", language, strings.Join(languages, ", "))
	}
	var pretty bytes.Buffer
	body = bytes.TrimSpace(body)
	if err := json.Indent(&pretty, body, "", "  "); err != nil || body[0] != '{' {
		return "", exchange.InvalidParam("request", "the request is not a JSON object")
	}
	return Languages[l].write(Styles[s], base+Styles[s].Path(), pretty.Bytes()), nil
}

func posix(_ Style, url string, body json.RawMessage) string {
	return fmt.Sprintf("curl %s \\\n  -H \"Authorization: Bearer $%s\" \\\n  -H \"Content-Type: application/json\" \\\n  -d '%s'\n",
		url, KeyVariable, strings.ReplaceAll(string(body), "'", `'\''`))
}

// powershell sends the body through a pipe, since older versions lose the quotes within an argument, and in ASCII, since
// they lose other characters in a pipe.
func powershell(_ Style, url string, body json.RawMessage) string {
	return fmt.Sprintf("@'\n%s\n'@ | curl.exe %s `\n  -H \"Authorization: Bearer $env:%s\" `\n  -H \"Content-Type: application/json\" `\n  --data-binary '@-'\n",
		ascii(body, "'"), url, KeyVariable)
}

// cmd writes what cmd.exe takes for its own as escapes of JSON: for it a quote within the body ends the quoted text.
func cmd(_ Style, url string, body json.RawMessage) string {
	var flat bytes.Buffer
	_ = json.Compact(&flat, body) // it is JSON
	return fmt.Sprintf("curl.exe %s ^\n  -H \"Authorization: Bearer %%%s%%\" ^\n  -H \"Content-Type: application/json\" ^\n  -d \"%s\"\n",
		url, KeyVariable, argument(ascii(flat.Bytes(), "&|<>^%!()")))
}

// argument escapes a text for between the quotes of an argument, by the rules of the C runtime on Windows: a quote gets a
// backslash, and backslashes right before it are doubled.
func argument(text string) string {
	var out strings.Builder
	backslashes := 0
	for i := range len(text) {
		if text[i] == '"' {
			out.WriteString(strings.Repeat(`\`, backslashes+1))
		}
		if text[i] == '\\' {
			backslashes++
		} else {
			backslashes = 0
		}
		out.WriteByte(text[i])
	}
	return out.String()
}

// ascii writes characters beyond ASCII, and those given, as escapes of JSON.
func ascii(body []byte, also string) string {
	var out strings.Builder
	for _, r := range string(body) {
		switch {
		case r < 0x80 && !strings.ContainsRune(also, r):
			out.WriteRune(r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
	}
	return out.String()
}

func python(s Style, url string, body json.RawMessage) string {
	return fmt.Sprintf(`import json
import os
import urllib.request

request = urllib.request.Request(
    %q,
    headers={
        "Authorization": "Bearer " + os.environ[%q],
        "Content-Type": "application/json",
    },
    data=json.dumps(%s).encode(),
)
with urllib.request.urlopen(request) as response:
    answer = json.load(response)
print(%s)
`, url, KeyVariable, pythonLiteral(body), s.python)
}

// pythonLiteral writes JSON as Python has it.
func pythonLiteral(body json.RawMessage) string {
	var out strings.Builder
	inText := false
	for i := 0; i < len(body); i++ {
		switch c := body[i]; {
		case inText && c == '\\':
			out.Write(body[i : i+2])
			i++
		case c == '"':
			inText = !inText
			out.WriteByte(c)
		case !inText && bytes.HasPrefix(body[i:], []byte("true")):
			out.WriteString("True")
			i += 3
		case !inText && bytes.HasPrefix(body[i:], []byte("false")):
			out.WriteString("False")
			i += 4
		case !inText && bytes.HasPrefix(body[i:], []byte("null")):
			out.WriteString("None")
			i += 3
		case !inText && c == '\n':
			out.WriteString("\n    ")
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}

func javascript(s Style, url string, body json.RawMessage) string {
	return fmt.Sprintf(`const response = await fetch(%q, {
  method: "POST",
  headers: {
    Authorization: "Bearer " + process.env.%s,
    "Content-Type": "application/json",
  },
  body: JSON.stringify(%s),
});
if (!response.ok) throw new Error(await response.text());
const answer = await response.json();
console.log(%s);
`, url, KeyVariable, strings.ReplaceAll(string(body), "\n", "\n  "), s.javascript)
}

func golang(s Style, url string, body json.RawMessage) string {
	literal := "`" + string(body) + "`"
	if strings.Contains(string(body), "`") {
		literal = strconv.Quote(string(body))
	}
	return fmt.Sprintf(`package main

import (
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"strings"
)

const body = %s

func main() {
	request, err := http.NewRequest("POST", %q, strings.NewReader(body))
	if err != nil {
		log.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+os.Getenv(%q))
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		log.Fatal(err)
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(response.Body)
	if err != nil || response.StatusCode != http.StatusOK {
		log.Fatalf("%%s: %%s %%v", response.Status, raw, err)
	}
	var answer struct {
		%s
	}
	if err := json.Unmarshal(raw, &answer); err != nil {
		log.Fatal(err)
	}
	%s
}
`, literal, url, KeyVariable, s.answer, s.golang)
}

func csharp(s Style, url string, body json.RawMessage) string {
	return fmt.Sprintf(`using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;

using var client = new HttpClient();
client.DefaultRequestHeaders.Authorization =
    new AuthenticationHeaderValue("Bearer", Environment.GetEnvironmentVariable(%q));
var body = @"%s";
using var response = await client.PostAsync(%q,
    new StringContent(body, Encoding.UTF8, "application/json"));
var text = await response.Content.ReadAsStringAsync();
if (!response.IsSuccessStatusCode) throw new Exception(text);
var answer = JsonDocument.Parse(text).RootElement;
Console.WriteLine(%s);
`, KeyVariable, strings.ReplaceAll(string(body), `"`, `""`), url, s.csharp)
}
