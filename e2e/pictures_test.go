package e2e

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
)

const sighted = "../internal/model/testdata/vision/"

// dataURL is a file as an application sends a picture.
func dataURL(t testing.TB, path string) string {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return "data:image/png;base64," + base64.StdEncoding.EncodeToString(raw)
}

// looking starts a gate with models that take pictures: folders, and a GGUF file with its projector beside it.
func looking(t testing.TB, args ...string) *Gate {
	t.Helper()
	folder := t.TempDir()
	copyTo := func(to string, files ...string) {
		if err := os.MkdirAll(to, 0o755); err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			raw, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(to, filepath.Base(file)), raw, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, name := range []string{"gemma3-vision", "qwen2-vl", "pixtral", "llava-clip"} {
		files, _ := filepath.Glob(sighted + name + "/hf/*")
		copyTo(filepath.Join(folder, "models", name), files...)
	}
	copyTo(filepath.Join(folder, "models", "apart"), sighted+"gemma3-vision/model.f32.gguf", sighted+"gemma3-vision/mmproj.f32.gguf")
	return start(t, folder, append([]string{"serve", "--listen", "127.0.0.1:0", "--models", filepath.Join(folder, "models")}, args...)...)
}

// answered is what a style gives of an answer.
type answered struct {
	Choices []struct {
		Message struct{ Content string }
	}
	Output []struct {
		Content []struct{ Text string }
	}
	Usage struct {
		PromptTokens int `json:"prompt_tokens"`
		InputTokens  int `json:"input_tokens"`
		Details      struct {
			Cached int `json:"cached_tokens"`
		} `json:"prompt_tokens_details"`
	}
	Error struct{ Message, Param, Code string }
}

func (a *answered) text() string {
	if len(a.Choices) > 0 {
		return a.Choices[0].Message.Content
	}
	if len(a.Output) > 0 && len(a.Output[0].Content) > 0 {
		return a.Output[0].Content[0].Text
	}
	return ""
}

func show(t testing.TB, g *Gate, path, body string) (int, answered) {
	t.Helper()
	status, raw := call(t, g, g.Owner, "POST", path, body)
	var a answered
	if err := json.Unmarshal([]byte(raw), &a); err != nil {
		t.Fatalf("%s: %d %s", path, status, raw)
	}
	return status, a
}

// An application shows pictures to each kind of model, in the chat style and the response style, in a folder and in two files; the same picture again is
// known, and another one of its size is never taken for it.
func TestPictures(t *testing.T) {
	t.Setenv("KINDRED_RECORD_CONTENT", "true")
	g := looking(t)
	for _, name := range []string{"gemma3-vision", "qwen2-vl", "pixtral", "llava-clip", "model.f32"} {
		fixture := name
		if name == "model.f32" {
			fixture = "gemma3-vision"
		}
		a, twin := dataURL(t, sighted+fixture+"/images/a.png"), dataURL(t, sighted+fixture+"/images/twin.png")
		chat := func(url string) answered {
			status, got := show(t, g, "/chat/completions", fmt.Sprintf(`{"model": %q, "temperature": 0, "max_tokens": 12, "messages": [{"role": "user", "content": [{"type": "text", "text": "what is this"}, {"type": "image_url", "image_url": {"url": %q}}]}]}`, name, url))
			if status != 200 {
				t.Fatalf("%s: %d %+v", name, status, got.Error)
			}
			return got
		}
		first, other, again := chat(a), chat(twin), chat(a)
		if first.text() == other.text() {
			t.Errorf("%s says %q of two pictures", name, first.text())
		}
		if again.text() != first.text() || again.Usage.Details.Cached < again.Usage.PromptTokens-2 || other.Usage.Details.Cached >= other.Usage.PromptTokens-5 {
			t.Errorf("%s again: %q of %d cached tokens, first %q; of the other picture %d", name, again.text(), again.Usage.Details.Cached, first.text(), other.Usage.Details.Cached)
		}
		status, response := show(t, g, "/responses", fmt.Sprintf(`{"model": %q, "temperature": 0, "max_output_tokens": 12, "input": [{"role": "user", "content": [{"type": "input_text", "text": "what is this"}, {"type": "input_image", "image_url": %q}]}]}`, name, a))
		if status != 200 || response.text() != first.text() || response.Usage.InputTokens != first.Usage.PromptTokens {
			t.Errorf("%s in the response style: %d %q, %d tokens; chat says %q, %d", name, status, response.text(), response.Usage.InputTokens, first.text(), first.Usage.PromptTokens)
		}
	}
	// The command line shows pictures too, and what becomes of them.
	picture := sighted + "pixtral/images/a.png"
	if out, errOut, code := run(t, g, "", "ask", "-m", "pixtral", "-n", "8", "-t", "0", "--file", picture, "what is this"); code > 1 || out == "" {
		t.Errorf("ask: %d %q %q", code, out, errOut)
	}
	// What was recorded shows a picture in few words, and asked again it is seen again.
	if out, errOut, _ := run(t, g, "", "traffic", "show"); !strings.Contains(out, "[picture, 200 × 120, read as 128 × 80]") || strings.Contains(out, "[IMG][IMG]") {
		t.Errorf("traffic show: %q %q", out, errOut)
	}
	if out, errOut, code := run(t, g, "", "replay", "--json"); code != 0 || !strings.Contains(out, `"same": true`) {
		t.Errorf("replay: %d %.300q %q", code, out, errOut)
	}
	if out, errOut, _ := run(t, g, "", "render", "-m", "pixtral", "--file", picture, "what is this"); !strings.Contains(out, "picture, 200 × 120, read as 128 × 80") {
		t.Errorf("render: %q %q", out, errOut)
	}
	if out, _, _ := run(t, g, "", "models", "show", "model.f32"); !strings.Contains(out, "16 tokens each, by mmproj.f32.gguf") {
		t.Errorf("show: %s", out)
	}
	if out, _, _ := run(t, g, "", "models", "list"); strings.Contains(out, "mmproj") {
		t.Errorf("the projector is a model of its own: %s", out)
	}
	// Brought into the models folder, a model keeps what it sees with, and takes it along when it goes.
	for _, flag := range []string{"--copy", "--copy=false"} {
		if out, errOut, code := run(t, g, "", "models", "add", sighted+"gemma3-vision/model.f32.gguf", "--name", "lookout", flag); code != 0 {
			t.Fatalf("add: %q %q", out, errOut)
		}
		projector := filepath.Join(g.Folder, "models", "lookout-projector.gguf")
		if out, _, _ := run(t, g, "", "models", "show", "lookout"); !strings.Contains(out, "by lookout-projector.gguf") {
			t.Errorf("show: %s", out)
		}
		if out, errOut, code := run(t, g, "", "models", "remove", "lookout", "--yes"); code != 0 {
			t.Errorf("remove: %q %q", out, errOut)
		}
		if _, err := os.Lstat(projector); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("the projector is still there: %v", err)
		}
	}
	if _, errOut, code := run(t, g, "", "ask", "-m", "pixtral", "--style", "generate", "--file", picture, "x"); code != 2 || !strings.Contains(errOut, "takes no pictures") {
		t.Errorf("generate: %d %q", code, errOut)
	}
}

// Through two gates pictures are seen as directly.
func TestPicturesThroughTwoGates(t *testing.T) {
	attic := looking(t)
	folder := t.TempDir()
	config := filepath.Join(folder, "gate.yaml")
	text := fmt.Sprintf("listen: 127.0.0.1:0\nmodels: { folders: [%s/none] }\nrunners: { attic: { url: %q, key_env: ATTIC_KEY } }\n", folder, attic.BaseURL)
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("ATTIC_KEY", attic.Owner)
	g := start(t, folder, "serve", "--config", config)
	for _, name := range []string{"qwen2-vl", "gemma3-vision"} {
		body := fmt.Sprintf(`"temperature": 0, "max_tokens": 12, "messages": [{"role": "user", "content": [{"type": "image_url", "image_url": {"url": %q}}, {"type": "text", "text": "what is this"}]}]}`, dataURL(t, sighted+name+"/images/a.png"))
		status, direct := show(t, attic, "/chat/completions", fmt.Sprintf(`{"model": %q, `, name)+body)
		through, got := show(t, g, "/chat/completions", fmt.Sprintf(`{"model": "attic/%s", `, name)+body)
		if status != 200 || through != 200 || got.text() != direct.text() || got.Usage.PromptTokens != direct.Usage.PromptTokens {
			t.Errorf("%s: %d %q, %d tokens; directly %d %q, %d", name, through, got.text(), got.Usage.PromptTokens, status, direct.text(), direct.Usage.PromptTokens)
		}
	}
	large := fmt.Sprintf(`{"model": "attic/pixtral", "messages": [{"role": "user", "content": [{"type": "image_url", "image_url": {"url": %q}}]}]}`, dataURL(t, "../internal/picture/testdata/decode/vast.png"))
	if status, got := show(t, g, "/chat/completions", large); status != 400 || !strings.Contains(got.Error.Message, "60000 × 60000") {
		t.Errorf("a vast picture: %d %+v", status, got.Error)
	}
}

// What a stranger may send in the place of a picture is a clear 400 at its part, and costs nothing.
func TestPicturesThatCannotBeRead(t *testing.T) {
	g := looking(t)
	decode := "../internal/picture/testdata/decode/"
	small := dataURL(t, sighted+"pixtral/images/b.png")
	for _, c := range []struct{ name, model, url, code, want string }{
		{"60000 × 60000 in 74 bytes", "pixtral", dataURL(t, decode+"vast.png"), "image_too_large", "60000 × 60000"},
		{"20000 × 20000 in 50 KB", "pixtral", dataURL(t, decode+"dense.png"), "image_too_large", "at most 256 MiB"},
		{"a GIF with a vast screen", "pixtral", dataURL(t, decode+"vast.gif"), "image_too_large", "65535 × 65535"},
		{"one that is cut off", "pixtral", dataURL(t, decode+"cut.png"), "invalid_image", "not a whole picture"},
		{"words", "pixtral", dataURL(t, decode+"words.png"), "invalid_image", "PNG, JPEG, GIF or WebP"},
		{"a sliver", "qwen2-vl", dataURL(t, decode+"thin.png"), "invalid_image", "200 times"},
		{"base64 with a hole", "pixtral", strings.Replace(small, "A", "*", 1), "invalid_value", "not base64 at byte"},
		{"nothing", "pixtral", "data:image/png;base64,", "invalid_value", "empty"},
		{"an address", "pixtral", "https://sorrel.example/pier.png", "invalid_image", "is an address"},
	} {
		status, got := show(t, g, "/chat/completions", fmt.Sprintf(`{"model": %q, "max_tokens": 4, "messages": [{"role": "user", "content": [{"type": "text", "text": "x"}, {"type": "image_url", "image_url": {"url": %q}}]}]}`, c.model, c.url))
		if status != 400 || got.Error.Code != c.code || !strings.Contains(got.Error.Message, c.want) || !strings.HasPrefix(got.Error.Param, "messages[0].content[1].image_url") {
			t.Errorf("%s: %d %+v, want %s with %q", c.name, status, got.Error, c.code, c.want)
		}
	}
	part := fmt.Sprintf(`{"type": "image_url", "image_url": {"url": %q}}`, small)
	ask := func(model, messages string) (int, answered) {
		return show(t, g, "/chat/completions", fmt.Sprintf(`{"model": %q, "max_tokens": 4, "messages": %s}`, model, messages))
	}
	if status, got := ask("pixtral", `[{"role": "user", "content": [`+strings.Repeat(part+",", 16)+part+`]}]`); status != 400 || got.Error.Code != "too_many_images" || got.Error.Param != "messages[0].content[16].image_url.url" {
		t.Errorf("17 pictures: %d %+v", status, got.Error)
	}
	if status, got := ask("qwen2-vl", `[{"role": "user", "content": [`+part+`, {"type": "input_audio", "input_audio": {"data": "AAAA", "format": "wav"}}]}]`); status != 400 || !strings.Contains(got.Error.Message, "input_audio\", which is not there yet") {
		t.Errorf("audio: %d %+v", status, got.Error)
	}
	// A mark that a user types is text.
	plain, typed := `[{"role": "user", "content": [`+part+`, {"type": "text", "text": "ab"}]}]`, `[{"role": "user", "content": [`+part+`, {"type": "text", "text": "[IMG]"}]}]`
	_, one := ask("pixtral", plain)
	status, two := ask("pixtral", typed)
	if status != 200 || two.Usage.PromptTokens <= one.Usage.PromptTokens-2 {
		t.Errorf("a typed mark: %d, %d and %d tokens", status, one.Usage.PromptTokens, two.Usage.PromptTokens)
	}
}

// Addresses of pictures are fetched only where the operator lets them, and then from where they may lead.
func TestAddressesOfPictures(t *testing.T) {
	files := httptest.NewServer(http.FileServer(http.Dir(sighted + "pixtral/images")))
	defer files.Close()
	for from, want := range map[string]string{"": "picture_addresses", "public": "127.0.0.1 is not an address", "private": ""} {
		t.Setenv("KINDRED_MODELS_PICTURE_ADDRESSES", from)
		g := looking(t)
		ask := func(url string) (int, answered) {
			return show(t, g, "/chat/completions", fmt.Sprintf(`{"model": "pixtral", "temperature": 0, "max_tokens": 4, "messages": [{"role": "user", "content": [{"type": "image_url", "image_url": {"url": %q}}]}]}`, url))
		}
		status, got := ask(files.URL + "/a.png")
		if want != "" {
			if status != 400 || got.Error.Code != "invalid_image" || !strings.Contains(got.Error.Message, want) {
				t.Errorf("%q: %d %+v", from, status, got.Error)
			}
			continue
		}
		if _, direct := ask(dataURL(t, sighted+"pixtral/images/a.png")); status != 200 || got.text() != direct.text() {
			t.Errorf("%q: %d %q, directly %q", from, status, got.text(), direct.text())
		}
		if status, got := ask(files.URL + "/none.png"); status != 400 || !strings.Contains(got.Error.Message, "404") {
			t.Errorf("a picture that is not there: %d %+v", status, got.Error)
		}
	}
}

// Somebody shows a model a picture in the console, and sees what it becomes in a prompt.
func TestPicturesInTheConsole(t *testing.T) {
	g := looking(t)
	tab, do := browse(t)
	type css = chromedp.CSS
	picture, err := filepath.Abs("../tools/screenshots/ferry.png")
	if err != nil {
		t.Fatal(err)
	}
	do("sign in",
		chromedp.Navigate(strings.TrimSuffix(g.BaseURL, "v1")),
		chromedp.SendKeys(css("#owner-key"), g.Owner+"\r"),
		chromedp.WaitVisible(css(`[data-testid="base-url"]`)))
	do("show a picture",
		chromedp.Evaluate[chromedp.Void](`location.hash = "/try"`),
		chromedp.WaitVisible(css(`[data-testid="pictures"]`)),
		chromedp.SetUploadFiles(css(`[data-testid="pictures"] input`), []string{picture}),
		chromedp.WaitVisible(css(`[data-testid="pictures"] img[alt="ferry.png"]`)),
		chromedp.SendKeys(css("#question"), "what is this"),
		chromedp.SendKeys(css("#max-tokens"), "8"),
		chromedp.Click(`//button[text()="Ask"]`),
		chromedp.WaitVisible(css(`[data-testid="figures"]`)))
	figures, err := chromedp.Run(tab, chromedp.Text(css(`[data-testid="figures"]`)))
	if err != nil || !strings.Contains(figures, "8") {
		t.Errorf("figures %q, %v", figures, err)
	}
	do("the snippet does not hold it",
		chromedp.Click(`//button[text()="Snippet"]`),
		chromedp.WaitVisible(`//*[@data-testid="snippet"][contains(text(), "base64,BASE64")]`))
	do("the prompt",
		chromedp.Evaluate[chromedp.Void](`location.hash = "/prompt"`),
		chromedp.WaitNotPresent(css(`[data-testid="figures"]`)), // the screen before has pictures too
		chromedp.WaitVisible(css(`[data-testid="pictures"]`)),
		chromedp.SetUploadFiles(css(`[data-testid="pictures"] input`), []string{picture}),
		chromedp.WaitVisible(`//*[@data-testid="prompt"]/span[contains(text(), "[picture, 480 × 320, read as 224 × 224: ")]`))
	do("remove it",
		chromedp.Click(css(`button[aria-label="Remove ferry.png"]`)),
		chromedp.WaitNotPresent(css(`[data-testid="pictures"] img`)))
	file := filepath.Join(t.TempDir(), "piers.yaml")
	if err := os.WriteFile(file, []byte("suite: Piers\ncases:\n  pier:\n    said: [{ user: [{ picture: pictures/ferry.png }, what is this] }]\n    settings: { longest_answer: 4 }\n    answer: { tokens_at_most: 4 }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	do("run a suite with it",
		chromedp.Evaluate[chromedp.Void](`location.hash = "/suites"`),
		chromedp.WaitVisible(css("#suite-file")),
		chromedp.SetUploadFiles(css("#suite-file"), []string{picture, file}),
		chromedp.Click(`//button[text()="Run piers.yaml"]`),
		chromedp.WaitVisible(`//*[@data-testid="suite-report"][contains(., "3 of 3")]`))
}

// A preset shows a model pictures in its examples.
func TestPicturesOfPresets(t *testing.T) {
	g := looking(t)
	file := filepath.Join(t.TempDir(), "examples.json")
	write := func(url string) {
		raw, err := json.Marshal([]map[string]any{{"role": "user", "content": "what is this", "pictures": []string{url}}, {"role": "assistant", "content": "a pier"}})
		if err == nil {
			err = os.WriteFile(file, raw, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	write(dataURL(t, sighted+"qwen2-vl/images/b.png"))
	if out, errOut, code := run(t, g, "", "presets", "add", "lookout", "--model", "qwen2-vl", "--examples", file); code != 0 {
		t.Fatalf("%q %q", out, errOut)
	}
	if out, errOut, _ := run(t, g, "", "render", "-m", "lookout", "and this"); !strings.Contains(out, "preset.examples[0].content[0]") || !strings.Contains(out, "picture, ") {
		t.Errorf("render: %q %q", out, errOut)
	}
	if status, got := show(t, g, "/chat/completions", `{"model": "lookout", "max_tokens": 4, "messages": [{"role": "user", "content": "and this"}]}`); status != 200 {
		t.Errorf("%d %+v", status, got.Error)
	}
	write("data:image/png;base64,AAAA")
	if _, errOut, code := run(t, g, "", "presets", "add", "wrong", "--model", "qwen2-vl", "--examples", file); code != 1 || !strings.Contains(errOut, "examples[0].pictures[0]: it is no picture") {
		t.Errorf("no picture: %d %q", code, errOut)
	}
}

// A suite shows models pictures that stand beside it, and comes back of what was recorded.
func TestPicturesOfSuites(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
		return path
	}
	g := looking(t, "--config", write("gate.yaml", "record: { content: true }\n"))
	picture, err := os.ReadFile(sighted + "pixtral/images/b.png")
	if err != nil {
		t.Fatal(err)
	}
	write("pictures/pier.png", string(picture))
	file := write("piers.yaml", "suite: Piers\ncases:\n  pier:\n    said: [{ user: [{ picture: pictures/pier.png }, what is this] }]\n    settings: { temperature: 0, longest_answer: 6 }\n    answer: { tokens_at_most: 6 }\n")
	if out, errOut, code := run(t, g, "", "suite", "run", file, "-m", "pixtral"); code != 0 || !strings.Contains(out, "1 of 1") {
		t.Fatalf("%d: %q %q", code, out, errOut)
	}
	if _, errOut, code := run(t, g, "", "suite", "run", write("moved.yaml", "suite: Piers\ncases:\n  pier: { said: [{ user: [{ picture: pier.png }] }], answer: { lacks: x } }\n"), "-m", "pixtral"); code != 1 || !strings.Contains(errOut, "moved.yaml: open ") || !strings.Contains(errOut, "pier.png") {
		t.Errorf("a file that is missing: %d %q", code, errOut)
	}
	body := `{"model": "pixtral", "max_tokens": 6, "temperature": 0, "messages": [{"role": "user", "content": [{"type": "text", "text": "what is this"}, {"type": "image_url", "image_url": {"url": "` + dataURL(t, sighted+"pixtral/images/b.png") + `"}}]}]}`
	status, asked := show(t, g, "/chat/completions", body)
	if status != 200 {
		t.Fatalf("%d %+v", status, asked.Error)
	}
	doc, errOut, code := run(t, g, "", "suite", "from", "--since", "1h")
	if code != 0 || strings.Count(doc, "data:image/png;base64,") != 1 { // what suites asked is left out
		t.Fatalf("%d: %q %q", code, doc, errOut)
	}
	if out, errOut, code := run(t, g, "", "suite", "run", write("recorded.yaml", doc), "-m", "pixtral"); code != 0 || !strings.Contains(out, "1 of 1") { // alike to what was recorded
		t.Errorf("%d: %q %q", code, out, errOut)
	}
}

// A projector comes with its model, from a file or from an address; one that does not fit costs nothing that has come.
func TestProjectorsAreNamed(t *testing.T) {
	g := looking(t)
	fetched := map[string]int{}
	var mu sync.Mutex
	files := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		fetched[r.URL.Path+r.Header.Get("Range")]++
		mu.Unlock()
		http.FileServer(http.Dir(sighted)).ServeHTTP(w, r)
	}))
	defer files.Close()
	const model, right = "gemma3-vision/model.f32.gguf", "gemma3-vision/mmproj.f32.gguf"
	apart := filepath.Join(t.TempDir(), "text.gguf") // without a projector beside it
	raw, err := os.ReadFile(sighted + model)
	if err == nil {
		err = os.WriteFile(apart, raw, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{apart, "--projector", sighted + model}, "is no projector"},
		{[]string{apart, "--projector", files.URL + "/" + right}, "must both be addresses"},
		{[]string{sighted + "pixtral/hf", "--projector", sighted + right}, "leave the projector out"},
		{[]string{"../demo/models/harbour-4m/harbour-4m.gguf", "--projector", sighted + right}, "is a projector for models that are "},
		{[]string{files.URL + "/" + model, "--projector", files.URL + "/" + model}, "is no projector: no GGUF file with a tower for pictures; what has come of the model is kept"},
	} {
		if _, errOut, code := run(t, g, "", append([]string{"models", "add", "--name", "lookout"}, c.args...)...); code != 1 || !strings.Contains(errOut, c.says) {
			t.Errorf("%q: %d %q", c.args, code, errOut)
		}
	}
	for _, source := range [][]string{{apart, "--projector", sighted + right}, {files.URL + "/" + model, "--projector", files.URL + "/" + right}} {
		if out, errOut, code := run(t, g, "", append([]string{"models", "add", "--name", "lookout"}, source...)...); code != 0 {
			t.Fatalf("%q: %q %q", source, out, errOut)
		}
		if out, _, _ := run(t, g, "", "models", "show", "lookout"); !strings.Contains(out, "by lookout-projector.gguf") {
			t.Errorf("%q: %s", source, out)
		}
		if out, errOut, code := run(t, g, "", "models", "remove", "lookout", "--yes"); code != 0 {
			t.Errorf("%q: %q %q", source, out, errOut)
		}
	}
	if n := fetched["/"+model]; n != 2 { // once as the model, once as what is no projector
		t.Errorf("the model was fetched %d times from its begin", n)
	}
}
