package server

import (
	"cmp"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/check"
	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
)

// access says who may use a route.
type access int

const (
	everyone     access = iota // without a key; nothing there is of use to a stranger
	people                     // likewise, but not at addresses that are for applications only: the console, and what leads to it
	applications               // whoever has a key
	asking                     // likewise, with a place among the requests that the key may have at once
	here                       // programs on this computer, and whoever has a key
	operator                   // who has the owner key, or has signed in with it
)

// handler answers a request: with a value, which goes out as JSON, or with an error. It returns neither where it has written the answer
// itself, or there is nothing to say.
type handler func(c *gin.Context) (any, error)

// created is the answer of a handler that has made something.
type created struct{ what any }

// route is one thing that the gate answers.
type route struct {
	method, path string
	who          access
	handle       handler
}

// routes are what the gate answers.
func (s *Server) routes() []route {
	list := []route{
		{"GET", "/", people, s.root},
		{"GET", "/assets/*file", people, s.asset},
		{"GET", "/healthz", everyone, func(c *gin.Context) (any, error) { c.String(http.StatusOK, "up\n"); return nil, nil }},
		{"GET", "/openapi.json", everyone, plain(s.openAPI)},
		{"GET", "/readyz", everyone, s.ready},
		{"GET", "/v1/models", applications, s.listModels},
		{"GET", "/v1/models/:id", applications, s.showModel},
		{"POST", "/v1/chat/completions", asking, s.chat},
		{"POST", "/v1/completions", asking, s.complete},
		{"POST", "/v1/generate", asking, s.generate},
		{"POST", "/v1/embeddings", asking, s.embed},
		{"POST", "/v1/rerank", asking, s.rank},
		{"POST", "/v1/images/:what", asking, s.passOn(dialect.Images)},
		{"POST", "/v1/audio/:what", asking, s.passOn(dialect.Audio)},
		{"POST", "/v1/moderations", asking, s.passOn(dialect.Moderations)},
		{"POST", "/v1/responses", asking, s.respond},
		{"POST", "/v1/responses/input_tokens", asking, s.countInput},
		{"POST", "/v1/responses/compact", asking, s.compact},
		{"GET", "/v1/responses/:id", applications, s.whereItRuns(s.showResponse)},
		{"DELETE", "/v1/responses/:id", applications, s.whereItRuns(s.deleteResponse)},
		{"POST", "/v1/responses/:id/cancel", applications, s.whereItRuns(s.cancelResponse)},
		{"GET", "/v1/responses/:id/input_items", applications, s.whereItRuns(s.listInput)},
		{"GET", "/gate/proof", people, s.prove},
		{"POST", "/gate/session", people, s.signIn},
		{"DELETE", "/gate/session", people, s.signOut},
		{"GET", "/gate/key", applications, s.showOwnKey},
		{"POST", "/gate/key/issue", applications, s.issueUnder},
		{"GET", check.PulsePath, applications, s.pulse},
		{"GET", "/gate/status", operator, s.status},
		{"GET", "/gate/settings", operator, s.settings},
		{"GET", "/gate/now", operator, s.now},
		{"GET", "/gate/check", operator, s.checkSelf},
		{"POST", "/gate/apply", operator, s.applyDeclared},
		{"GET", "/gate/models", operator, s.installedModels},
		{"POST", "/gate/models", operator, s.addModel},
		{"GET", "/gate/models/:id", operator, s.installedModel},
		{"DELETE", "/gate/models/:id", operator, s.removeModel},
		{"POST", "/gate/models/:id/load", operator, s.loadModel},
		{"POST", "/gate/models/:id/unload", operator, s.unloadModel},
		{"GET", "/gate/suites", operator, s.listSuiteRuns},
		{"POST", "/gate/suites/run", operator, s.runSuite},
		{"GET", "/gate/suites/:id", operator, s.showSuiteRun},
		{"GET", "/gate/tools", operator, s.listTools},
		{"POST", "/gate/tools/try", operator, s.tryTool},
		{"GET", "/gate/approvals", applications, s.listApprovals},
		{"POST", "/gate/approvals/:id", applications, s.decide},
		{"GET", "/gate/machines", operator, s.listMachines},
		{"POST", "/gate/machines", operator, s.inviteMachine},
		{"DELETE", "/gate/machines/:name", operator, s.revokeMachine},
		{"POST", "/gate/machines/:name/look", operator, s.lookAtMachine},
		{"POST", "/gate/machines/:name/probe", operator, s.probeMachine},
		{"GET", "/gate/gates", operator, s.listGates},
		{"GET", "/gate/names", operator, s.listNames},
		{"PUT", "/gate/names", operator, s.saveName},
		{"DELETE", "/gate/names", operator, s.removeName},
		{"GET", "/gate/groups", operator, s.listGroups},
		{"PUT", "/gate/groups", operator, s.setGroup},
		{"DELETE", "/gate/groups", operator, s.removeGroup},
		{"GET", "/gate/exchanges", operator, s.listExchanges},
		{"GET", "/gate/exchanges/everywhere", operator, s.everywhere},
		{"GET", "/gate/exchanges/live", operator, s.watchExchanges},
		{"GET", "/gate/exchanges/export", operator, s.exportExchanges},
		{"GET", "/gate/exchanges/:id", operator, s.showExchange},
		{"POST", "/gate/exchanges/:id/replay", operator, s.replayExchange},
		{"DELETE", "/gate/contents", operator, s.purgeContents},
		{"GET", "/gate/jobs", operator, s.listJobs},
		{"GET", "/gate/costs", operator, s.listCosts},
		{"GET", "/gate/refusals", operator, s.listRefusals},
		{"GET", "/gate/presets", operator, s.listPresets},
		{"POST", "/gate/presets", operator, s.addPreset},
		{"GET", "/gate/presets/:name", operator, s.showPreset},
		{"PUT", "/gate/presets/:name", operator, s.changePreset},
		{"DELETE", "/gate/presets/:name", operator, s.removePreset},
		{"GET", "/gate/keys", operator, s.listKeys},
		{"POST", "/gate/keys", operator, s.issueKey},
		{"GET", "/gate/keys/:id", operator, s.showKey},
		{"PATCH", "/gate/keys/:id", operator, s.changeKey},
		{"POST", "/gate/keys/:id/rotate", operator, s.rotateKey},
		{"DELETE", "/gate/keys/:id", operator, s.revokeKey},
		{"POST", "/gate/prompt/render", operator, s.renderPrompt},
		{"POST", "/gate/prompt/measure", operator, s.measurePrompt},
		{"POST", "/gate/snippet", operator, s.writeSnippet},
	}
	if s.Metrics != nil {
		list = append(list, route{"GET", "/metrics", here, plain(gin.WrapH(s.Metrics))})
	}
	return list
}

// gates are what stands before the handlers of a route.
func (s *Server) gates(a access) []gin.HandlerFunc {
	switch a {
	case applications:
		return []gin.HandlerFunc{s.admit}
	case asking:
		return []gin.HandlerFunc{s.admit, s.enter}
	case here:
		return []gin.HandlerFunc{s.admitLocal}
	case operator:
		return []gin.HandlerFunc{s.ownerOnly}
	case everyone, people:
	}
	return nil
}

// send sends what a handler returns.
func send(h handler) gin.HandlerFunc {
	return func(c *gin.Context) {
		v, err := h(c)
		switch {
		case err != nil:
			fail(c, err)
		case v == nil:
			if !c.Writer.Written() {
				c.Status(http.StatusNoContent)
			}
		default:
			status := http.StatusOK
			if made, ok := v.(created); ok {
				status, v = http.StatusCreated, made.what
			}
			c.JSON(status, v)
		}
	}
}

// plain makes a handler of one that always writes its answer itself.
func plain(h gin.HandlerFunc) handler {
	return func(c *gin.Context) (any, error) {
		h(c)
		return nil, nil
	}
}

// slashed gives a path as it stands in a request the form in which a route finds it: slashes of an id, such as that of another machine's
// model, are escaped. A path that a route has as it is stays so.
func slashed(all []route, method, path string) string {
	segments := strings.Split(path, "/")
	found := ""
	for _, one := range all {
		pattern := strings.Split(one.path, "/")
		i := slices.IndexFunc(pattern, func(p string) bool { return strings.HasPrefix(p, ":") })
		if one.method != method || len(pattern) > len(segments) {
			continue
		}
		if len(pattern) == len(segments) {
			if slices.EqualFunc(pattern, segments, func(p, s string) bool { return p == s || strings.HasPrefix(p, ":") }) {
				return path
			}
			continue
		}
		if i < 0 {
			continue
		}
		behind := pattern[i+1:]
		from := len(segments) - len(behind)
		// Of several, that with most behind the id is meant: /models/a/b/load loads a/b.
		if slices.Equal(pattern[:i], segments[:i]) && slices.Equal(behind, segments[from:]) && (found == "" || len(behind) > 0) {
			found = strings.Join(slices.Concat(segments[:i], []string{strings.Join(segments[i:from], "%2F")}, behind), "/")
		}
	}
	return cmp.Or(found, path)
}

// engine makes what answers requests.
func (s *Server) engine(all []route, trusted []string) *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.RedirectTrailingSlash = false
	r.RemoteIPHeaders = []string{forwardedFor}
	if err := r.SetTrustedProxies(trusted); err != nil { // none, unless they are named
		s.Log.Warn("the trusted proxies cannot be used", "error", err.Error())
	}
	r.UseRawPath = true // so that an id may have a slash in it, as slashed has it
	r.Use(s.identify, s.log, s.patient, s.hold, s.survive, s.onlyApplications(all), s.shareWithBrowsers, s.checkHost)
	r.NoRoute(send(s.noRoute))
	r.NoMethod(send(func(c *gin.Context) (any, error) {
		return nil, exchange.Errorf(exchange.MethodNotAllowed, "method_not_allowed", "%s does not take %s; it takes %s", c.Request.URL.Path, c.Request.Method, c.Writer.Header().Get("Allow"))
	}))
	for _, one := range all {
		r.Handle(one.method, one.path, append(s.gates(one.who), send(one.handle))...)
	}
	return r
}
