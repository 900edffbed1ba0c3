package store

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
)

// What has ended counts once, however often the journal brings it; what is open, was refused or is a shadow does not.
func TestTotals(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "gate.db"), kept.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	at := time.Date(2031, 5, 31, 12, 0, 0, 0, time.Local)
	one := record.Record{ID: "a", Begun: at, Key: "k", Label: "bot", Group: "harbour", Answered: "m", State: record.Open}
	done := one
	done.State, done.PromptTokens, done.CachedTokens, done.CompletionTokens, done.Cost, done.Took, done.Queue = record.Done, 10, 4, 5, 7, 100, 40
	failed, refused, later, shadow := done, done, done, done
	shadow.ID, shadow.ShadowOf = "a-shadow", "a"
	failed.ID, failed.State = "b", record.Failed
	refused.ID, refused.State = "c", record.Refused
	later.ID, later.Begun = "d", at.AddDate(0, 0, 1)
	for _, list := range [][]record.Record{{one}, {done, failed, refused, later, shadow}, {done, failed}} {
		if err := s.PutExchanges(t.Context(), list); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.Totals(t.Context(), "2031-05")
	want := kept.Total{Key: "k", Label: "bot", Group: "harbour", Model: "m", Requests: 2, Failed: 1, Prompt: 20, Cached: 8, Completion: 10, Cost: 14, Busy: 120}
	if err != nil || len(got) != 1 || got[0] != want {
		t.Errorf("%+v, %v; want %+v", got, err, want)
	}
	if got, err := s.Totals(t.Context(), "2031-06"); err != nil || len(got) != 1 || got[0].Requests != 1 {
		t.Errorf("the month after: %+v, %v", got, err)
	}
}

// What was said has its space: the oldest makes room for the new, and what is larger than all of it is not kept.
func TestContentsHaveTheirSpace(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "gate.db"), kept.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	content := func(id string, bytes int) kept.Content {
		raw := make([]byte, bytes/2) // which does not get smaller when it is compressed
		rand.Read(raw)
		return kept.Content{ID: id, Key: "k", At: time.Unix(1000, 0), Request: json.RawMessage(`{}`), Answers: []kept.Answer{{Text: hex.EncodeToString(raw)}}}
	}
	const space = 20_000
	for _, id := range []string{"a", "b", "c", "d", "e", "f"} {
		if err := s.PutContent(t.Context(), content(id, 10_000), space); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.PutContent(t.Context(), content("huge", 100_000), space); !errors.Is(err, kept.ErrNoRoom) {
		t.Errorf("one larger than all: %v", err)
	}
	if _, err := s.Content(t.Context(), "a"); !errors.Is(err, kept.ErrMissing) {
		t.Errorf("the oldest: %v", err)
	}
	if c, err := s.Content(t.Context(), "f"); err != nil || len(c.Answers) != 1 || c.Key != "k" {
		t.Errorf("the newest: %+v, %v", c, err)
	}
	var total int64
	if err := s.db.QueryRow(`SELECT sum(bytes) FROM contents`).Scan(&total); err != nil || total > space {
		t.Errorf("%d bytes are kept of %d, %v", total, space, err)
	}
	if _, err := s.db.Exec(`UPDATE contents SET doc = ? WHERE id = 'f'`, bytes.Repeat([]byte{1}, 10)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Content(t.Context(), "f"); !errors.Is(err, kept.ErrDamaged) {
		t.Errorf("a damaged one: %v", err)
	}
}

// A picture is kept once, however many contents have it, and comes back with each; it goes with the last of them. A text that looks like a reference to one that
// another content has stays a text.
func TestPicturesOfContents(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "gate.db"), kept.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	url := func(of byte) string {
		raw := make([]byte, 30_000)
		rand.Read(raw)
		raw[0] = of
		return "data:image/png;base64," + base64.StdEncoding.EncodeToString(raw)
	}
	pier, boat := url(1), url(2)
	count := func() (contents, pictures int) {
		if err := s.db.QueryRow(`SELECT (SELECT count(*) FROM contents), (SELECT count(*) FROM pictures)`).Scan(&contents, &pictures); err != nil {
			t.Fatal(err)
		}
		return contents, pictures
	}
	const space = 100_000
	put := func(id, key string, urls ...string) json.RawMessage {
		request, err := json.Marshal(map[string]any{"said": urls})
		if err != nil {
			t.Fatal(err)
		}
		if err := s.PutContent(t.Context(), kept.Content{ID: id, Key: key, At: time.Unix(1000, 0), Request: request}, space); err != nil {
			t.Fatal(err)
		}
		return request
	}
	want := map[string]json.RawMessage{}
	for i := range 10 {
		id := fmt.Sprint("turn", i)
		want[id] = put(id, "a", pier, "and again", pier)
	}
	want["both"] = put("both", "b", pier, boat)
	sum := sha256.Sum256([]byte(`"` + boat + `"`))
	want["guess"] = put("guess", "a", fmt.Sprintf("kept-picture:%x", sum))
	short := url(3)[:2002] // as long as pictures that are kept apart
	own := sha256.Sum256([]byte(`"` + short + `"`))
	want["forged"] = put("forged", "a", append(slices.Repeat([]string{fmt.Sprintf("kept-picture:%x", own)}, 10), short)...)
	for id, request := range want {
		if c, err := s.Content(t.Context(), id); err != nil || string(c.Request) != string(request) {
			t.Errorf("%s comes back as %.80s, %v", id, c.Request, err)
		}
	}
	if contents, pictures := count(); contents != 13 || pictures != 2 {
		t.Errorf("%d contents, %d pictures", contents, pictures)
	}
	put("turn0", "a", pier) // written anew
	if n, err := s.PurgeContents(t.Context(), "b", time.Time{}); err != nil || n != 1 {
		t.Errorf("%d, %v", n, err)
	}
	if _, pictures := count(); pictures != 1 {
		t.Errorf("%d pictures are left of key a", pictures)
	}
	for i := range 20 { // each with one of its own: the oldest make room
		put(fmt.Sprint("other", i), "a", url(byte(3+i)))
		var total int64
		if err := s.db.QueryRow(`SELECT (SELECT sum(bytes) FROM contents) + (SELECT sum(bytes) FROM pictures)`).Scan(&total); err != nil || total > space {
			t.Fatalf("%d bytes are kept of %d, %v", total, space, err)
		}
	}
	if c, err := s.Content(t.Context(), "other19"); err != nil || len(c.Request) < 30_000 {
		t.Errorf("the newest: %d bytes, %v", len(c.Request), err)
	}
	if _, err := s.PurgeContents(t.Context(), "", time.Time{}); err != nil {
		t.Fatal(err)
	}
	if contents, pictures := count(); contents != 0 || pictures != 0 {
		t.Errorf("%d contents and %d pictures are left", contents, pictures)
	}
}

// The ledger and what was said get old by the clock, but not at once when it jumps; that they are to be kept for less holds at once.
func TestAClockThatJumpsLeavesTheLedger(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "gate.db"), kept.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	now, day := time.Now(), 24*time.Hour
	if err := s.PutExchanges(t.Context(), []record.Record{{ID: "a", Begun: now.Add(-10 * day), State: record.Done}}); err != nil {
		t.Fatal(err)
	}
	if err := s.PutContent(t.Context(), kept.Content{ID: "a", At: now.Add(-10 * day), Request: json.RawMessage(`{}`)}, 1<<20); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name string
		at   time.Time
		age  time.Duration
		gone bool
	}{{"as it is", now, 90 * day, false}, {"a clock that has jumped", now.Add(100 * day), 90 * day, false}, {"put right", now, 90 * day, false}, {"kept for less", now, 7 * day, true}} {
		if err := errors.Join(s.PruneExchanges(t.Context(), c.at, kept.Keep{Age: c.age}), s.PruneContents(t.Context(), c.at, c.age)); err != nil {
			t.Fatal(err)
		}
		_, err1 := s.Exchange(t.Context(), "a")
		_, err2 := s.Content(t.Context(), "a")
		if errors.Is(err1, kept.ErrMissing) != c.gone || errors.Is(err2, kept.ErrMissing) != c.gone {
			t.Errorf("%s: %v, %v", c.name, err1, err2)
		}
	}
}

// What was used of limits is there after a restart, with what was taken of those that gates share; what an older gate wrote counts as taken.
func TestCounts(t *testing.T) {
	path := filepath.Join(t.TempDir(), "k.db")
	s := open(t, path)
	begun := time.Now().Truncate(time.Millisecond)
	want := keyring.Counts{Account: "a", What: "requests a day", Begun: begun, Used: 9, Taken: 4, Elsewhere: 7}
	if err := s.PutCounts(t.Context(), []keyring.Counts{{Account: "a", What: "requests a day", Begun: begun.Add(-time.Hour), Used: 1}, want}, begun); err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.ExecContext(t.Context(), `INSERT INTO counts (account, what, begun, used) VALUES ('b', 'requests a day', 1, 5)`); err != nil {
		t.Fatal(err)
	}
	if err := s.PutNote(t.Context(), "gate south", begun); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, path)
	list, until, err := s.Counts(t.Context())
	if err != nil || len(list) != 2 || list[0] != want || list[1].Taken != 5 || !until.Equal(begun) {
		t.Errorf("%+v, until %s, %v", list, until, err)
	}
	if notes, err := s.Notes(t.Context(), "gate "); err != nil || len(notes) != 1 || !notes["south"].Equal(begun) {
		t.Errorf("%v, %v", notes, err)
	}
	if err := s.DropNote(t.Context(), "gate south"); err != nil {
		t.Fatal(err)
	}
	if notes, err := s.Notes(t.Context(), ""); err != nil || len(notes) != 1 {
		t.Errorf("%v, %v", notes, err)
	}
}
