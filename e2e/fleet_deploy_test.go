package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	natsserver "github.com/nats-io/nats-server/v2/server"
	appsv1 "k8s.io/api/apps/v1"
	autoscalingv2 "k8s.io/api/autoscaling/v2"
	corev1 "k8s.io/api/core/v1"
	networkingv1 "k8s.io/api/networking/v1"
	policyv1 "k8s.io/api/policy/v1"
	k8syaml "sigs.k8s.io/yaml"

	"kindredgate/internal/config"
)

// prepared runs deploy/fleet/prepare.sh in a copy of its folder.
func prepared(t *testing.T) (folder string) {
	t.Helper()
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("openssl is not installed here")
	}
	folder = t.TempDir()
	if err := os.CopyFS(folder, os.DirFS("../deploy/fleet")); err != nil {
		t.Fatal(err)
	}
	var before []byte
	for range 2 { // the second time it changes nothing
		if out, err := exec.Command("sh", filepath.Join(folder, "prepare.sh"), binary).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		after, err := os.ReadFile(filepath.Join(folder, "keys", "gates.seeds"))
		if err != nil || before != nil && !bytes.Equal(before, after) {
			t.Fatalf("the keys are made anew: %v", err)
		}
		before = after
	}
	return folder
}

// holdsNATS checks the configuration of a NATS server that lies at a path there, with its files where they are here.
func holdsNATS(t *testing.T, text, at, keys string) {
	t.Helper()
	t.Setenv("SERVER", "nats-1")
	t.Setenv("POD", "nats-0")
	root := t.TempDir()
	file := filepath.Join(root, at)
	text = strings.ReplaceAll(text, `"/keys/`, `"`+keys+"/") // the paths of includes begin at its folder, and need that of the container
	if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o700), os.Symlink(keys, filepath.Join(root, "keys")), os.WriteFile(file, []byte(text), 0o600)); err != nil {
		t.Fatal(err)
	}
	o, err := natsserver.ProcessConfigFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !o.JetStream || o.TLSConfig == nil || o.AuthCallout == nil || len(o.Routes) != 3 || o.ServerName == "" {
		t.Errorf("JetStream %v, TLS %v, who may sign in %v, %d routes, name %q", o.JetStream, o.TLSConfig != nil, o.AuthCallout != nil, len(o.Routes), o.ServerName)
	}
}

// holdsGate checks a gate's configuration, with its files where they are here.
func holdsGate(t *testing.T, text, keys string) config.Config {
	t.Helper()
	file := filepath.Join(t.TempDir(), "gate.yaml")
	if err := os.WriteFile(file, []byte(strings.ReplaceAll(text, "/keys/", keys+"/")), 0o600); err != nil {
		t.Fatal(err)
	}
	r, err := config.Read(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{r.Fleet.Credentials, r.Fleet.Roots} {
		if _, err := os.Stat(f); err != nil {
			t.Error(err)
		}
	}
	return r.Config
}

// The folder for compose makes its keys, and what it says to NATS servers and gates holds; every service mounts what it reads.
func TestTheFleetOfCompose(t *testing.T) {
	folder := prepared(t)
	keys := filepath.Join(folder, "keys")
	read := func(name string) string {
		raw, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			t.Fatal(err)
		}
		return string(raw)
	}
	holdsNATS(t, read("nats.conf"), "nats.conf", keys)
	cfg := holdsGate(t, read("gate.yaml"), keys)
	var compose struct {
		Services map[string]struct {
			Image       string
			Build       any
			Command     []string
			Volumes     []string
			Environment map[string]string
		}
		Volumes map[string]any
	}
	if err := yaml.Unmarshal([]byte(read("compose.yaml")), &compose); err != nil {
		t.Fatal(err)
	}
	if got := slices.Sorted(maps.Keys(compose.Services)); fmt.Sprint(got) != "[attic balancer cellar nats-1 nats-2 nats-3 north south west]" {
		t.Errorf("the services are %v", got)
	}
	for name, s := range compose.Services {
		if s.Image == "" && s.Build == nil {
			t.Errorf("%s has no image", name)
		}
		for _, v := range s.Volumes {
			from, _, _ := strings.Cut(v, ":")
			_, named := compose.Volumes[from]
			if _, err := os.Stat(filepath.Join(folder, from)); err != nil && !named && from != "./models" {
				t.Errorf("%s mounts %s, which is not there", name, from)
			}
		}
	}
	for _, url := range cfg.Fleet.NATS {
		host := strings.TrimSuffix(strings.TrimPrefix(url, "tls://"), ":4222")
		if _, ok := compose.Services[host]; !ok || !strings.Contains(read("nats.conf"), host) {
			t.Errorf("there is no service %s", host)
		}
		for _, m := range []string{"attic", "cellar"} {
			if c := compose.Services[m].Command; len(c) != 2 || c[0] != "join" || !strings.Contains(c[1], host) {
				t.Errorf("%s dials %v, without %s", m, c, host)
			}
		}
	}
	for _, g := range []string{"north", "south", "west"} {
		if compose.Services[g].Environment["KINDRED_FLEET_NAME"] != g || !strings.Contains(read("balancer.conf"), "server "+g+":7743") {
			t.Errorf("%s has the name %q, or the balancer does not know it", g, compose.Services[g].Environment["KINDRED_FLEET_NAME"])
		}
	}
}

// The manifests are of the types of Kubernetes, to the last field; their parts fit together; and the configurations in them hold.
func TestTheFleetOfKubernetes(t *testing.T) {
	keys := filepath.Join(prepared(t), "keys")
	files, err := filepath.Glob("../deploy/kubernetes/*.yaml")
	if err != nil || len(files) < 4 {
		t.Fatalf("%v %v", files, err)
	}
	labels := map[string]map[string]string{} // of pods, by the names of what makes them
	ports := map[string][]string{}           // of containers, by the label app
	var selectors []map[string]string
	pod := func(name string, selector map[string]string, p corev1.PodTemplateSpec) {
		labels[name] = p.Labels
		selectors = append(selectors, selector)
		mounts := map[string]bool{}
		for _, v := range p.Spec.Volumes {
			mounts[v.Name] = true
		}
		for _, c := range p.Spec.Containers {
			for _, port := range c.Ports {
				ports[p.Labels["app"]] = append(ports[p.Labels["app"]], port.Name, fmt.Sprint(port.ContainerPort))
			}
			if c.SecurityContext == nil || c.SecurityContext.AllowPrivilegeEscalation == nil || *c.SecurityContext.AllowPrivilegeEscalation || !*c.SecurityContext.ReadOnlyRootFilesystem {
				t.Errorf("%s has more rights than it needs", name)
			}
			for _, m := range c.VolumeMounts {
				if !mounts[m.Name] && m.Name != "data" {
					t.Errorf("%s mounts %s, which it has not", name, m.Name)
				}
			}
		}
	}
	fits := func(selector map[string]string) bool {
		for _, l := range labels {
			all := true
			for k, v := range selector {
				all = all && l[k] == v
			}
			if all {
				return true
			}
		}
		return false
	}
	kinds := map[string]int{}
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for doc := range strings.SplitSeq(string(raw), "\n---\n") {
			var kind struct{ Kind string }
			if err := k8syaml.Unmarshal([]byte(doc), &kind); err != nil {
				t.Fatalf("%s: %v", file, err)
			}
			kinds[kind.Kind]++
			strict := func(into any) {
				if err := k8syaml.UnmarshalStrict([]byte(doc), into); err != nil {
					t.Errorf("%s: %s: %v", file, kind.Kind, err)
				}
			}
			switch kind.Kind {
			case "ConfigMap":
				var c corev1.ConfigMap
				strict(&c)
				if text, ok := c.Data["nats.conf"]; ok {
					holdsNATS(t, text, "etc/nats/nats.conf", keys)
				}
				if text, ok := c.Data["gate.yaml"]; ok {
					holdsGate(t, text, keys)
				}
			case "Service":
				var s corev1.Service
				strict(&s)
				selectors = append(selectors, s.Spec.Selector)
			case "StatefulSet":
				var s appsv1.StatefulSet
				strict(&s)
				pod(s.Name, s.Spec.Selector.MatchLabels, s.Spec.Template)
			case "Deployment":
				var d appsv1.Deployment
				strict(&d)
				pod(d.Name, d.Spec.Selector.MatchLabels, d.Spec.Template)
			case "PersistentVolumeClaim":
				strict(&corev1.PersistentVolumeClaim{})
			case "PodDisruptionBudget":
				var p policyv1.PodDisruptionBudget
				strict(&p)
				selectors = append(selectors, p.Spec.Selector.MatchLabels)
			case "HorizontalPodAutoscaler":
				var h autoscalingv2.HorizontalPodAutoscaler
				strict(&h)
				if h.Spec.ScaleTargetRef.Name != "gate" || h.Spec.Metrics[0].Pods.Metric.Name != "kindred_exchanges_open" {
					t.Errorf("it scales %s by %s", h.Spec.ScaleTargetRef.Name, h.Spec.Metrics[0].Pods.Metric.Name)
				}
			case "NetworkPolicy":
				var n networkingv1.NetworkPolicy
				strict(&n)
				selectors = append(selectors, n.Spec.PodSelector.MatchLabels)
				for _, in := range n.Spec.Ingress {
					for _, p := range in.Ports {
						if !slices.Contains(ports[n.Spec.PodSelector.MatchLabels["app"]], p.Port.String()) {
							t.Errorf("%s lets in at %s, where nothing listens", n.Name, p.Port)
						}
					}
				}
			default:
				t.Errorf("%s: what is a %q?", file, kind.Kind)
			}
		}
	}
	for _, s := range selectors {
		if len(s) == 0 || !fits(s) {
			t.Errorf("no pod is meant by %v", s)
		}
	}
	for _, kind := range []string{"Deployment", "StatefulSet", "PodDisruptionBudget", "NetworkPolicy", "HorizontalPodAutoscaler", "PersistentVolumeClaim"} {
		if kinds[kind] == 0 {
			t.Errorf("there is no %s", kind)
		}
	}
}

// The unit of a machine names what the program has: its command, and variables that are settings.
func TestTheUnitOfAMachine(t *testing.T) {
	_, start, env := unit(t, "../deploy/kindred-join.service")
	if !strings.HasSuffix(start, "/kindred join $GATE") {
		t.Errorf("it starts %q", start)
	}
	cmd := exec.Command(binary, "join", "tls://127.0.0.1:1")
	folder := t.TempDir()
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "KINDRED_") || strings.HasPrefix(v, "XDG_") })
	for _, v := range env {
		cmd.Env = append(cmd.Env, strings.NewReplacer("/var/lib/kindred-join", folder, "/var/lib", folder, "/etc", folder).Replace(v))
	}
	out, err := cmd.CombinedOutput()
	if err == nil || !strings.Contains(string(out), "takes the token of an invitation") {
		t.Errorf("%v: %s", err, out)
	}
	cmd = exec.Command(binary, "join", "tls://127.0.0.1:1")
	cmd.Env = append(os.Environ(), "HOME="+folder, "KINDRED_DATA="+folder, "KINDRED_JOIN_TOKEN_ENV=TOKEN", "TOKEN=guess")
	if out, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(out), "the token is mistyped or cut off") {
		t.Errorf("%v: %s", err, out)
	}
}
