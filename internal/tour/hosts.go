package tour

import (
	"context"
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"yellowlantern/demo"
	"yellowlantern/internal/hosts"
	"yellowlantern/internal/lab"
)

// curlTimedOut is how the system's tool ends a transfer of which nothing comes any more (its manual, EXIT CODES).
const curlTimedOut = 28

// Story is what was tried on real hosts, step by step.
type Story struct {
	Steps []Step        `json:"steps"`
	OK    bool          `json:"ok"`
	Took  time.Duration `json:"took-ns"`
}

// Step is one of them.
type Step struct {
	Name string `json:"name"`
	OK   bool   `json:"ok"`
	Seen string `json:"seen"`
}

// island is Tern Island on real hosts, with the product on its gateway.
type island struct {
	*hosts.Site
	folder, yl string
	plan       string
	service    *exec.Cmd
	gateway    *exec.Cmd // a process of its own
}

// RunHosts makes Tern Island of network namespaces, with the gateway as an installed machine runs it, and a laptop that dials in by this
// machine's own tools. Where it is not for once, it prints what to try, and stays until the context ends. Everything is taken away again.
func RunHosts(ctx context.Context, once bool, say, show func(string)) (*Story, error) {
	if err := hosts.Possible(); err != nil {
		return nil, err
	}
	begun := time.Now()
	folder, err := os.MkdirTemp("", "yellow-lantern-hosts-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	s, err := demo.Load("")
	if err != nil {
		return nil, err
	}
	d, err := lab.Read([]byte(s.Site))
	if err != nil {
		return nil, err
	}
	say("making hosts, routers, a home and a laptop")
	i := &island{folder: folder, plan: s.Plan}
	if i.yl, err = os.Executable(); err != nil {
		return nil, err
	}
	if i.Site, err = hosts.Build(ctx, d, "demo", folder); err != nil {
		return nil, err
	}
	defer i.Close()
	say("installing the gateway, and committing the plan")
	before := i.traces(ctx)
	if err := i.install(ctx, s); err != nil {
		return nil, err
	}
	defer i.stop()
	if !once {
		show(i.toTry(s))
		<-ctx.Done()
		return &Story{OK: true}, nil
	}
	story := &Story{OK: true}
	tell := func(name string, ok bool, seen string) {
		say(name)
		story.Steps = append(story.Steps, Step{name, ok, strings.TrimSpace(seen)})
		story.OK = story.OK && ok
	}
	i.tell(ctx, tell)
	i.stop()
	after := i.traces(ctx)
	tell("stopped: nothing of it is left on the gateway's machine", after == before, map[bool]string{true: "routes, rules, settings and devices are as they were before", false: after}[after == before])
	story.Took = time.Since(begun)
	return story, nil
}

// traces is everything of the gateway's machine that may be changed.
func (i *island) traces(ctx context.Context) string {
	out, _ := i.Run(ctx, hosts.Gateway, "sh", "-c", `ip -o link; ip -o addr; ip route show table all; ip -6 route show table all; nft list ruleset; sysctl -a 2>/dev/null | grep -E 'forwarding|accept_ra '`)
	return out
}

// run starts a program on the gateway's machine, with a file for what it says.
func (i *island) run(ctx context.Context, log string, args ...string) (*exec.Cmd, error) {
	out, err := os.OpenFile(i.path(log), os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	defer out.Close()
	cmd := i.Command(context.WithoutCancel(ctx), hosts.Gateway, args...)
	cmd.Stdout, cmd.Stderr = out, out
	return cmd, cmd.Start()
}

// start starts the gateway and the service, as far as they do not run.
func (i *island) start(ctx context.Context) (code string, err error) {
	socket := i.path("gateway.sock")
	_, errThere := os.Stat(i.path("data"))
	first := errThere != nil
	if i.gateway == nil {
		if i.gateway, err = i.run(ctx, "gateway.log", i.yl, "gateway", "--data", i.path("gateway"), "--socket", socket); err != nil {
			return "", err
		}
		for n := 0; n < 200 && dialled(socket) != nil; n++ {
			time.Sleep(20 * time.Millisecond)
		}
	}
	if i.service, err = i.run(ctx, "service.log", i.yl, "serve", "--data", i.path("data"), "--gateway", socket); err != nil {
		return "", err
	}
	for range 200 {
		if _, err = i.Run(ctx, hosts.Gateway, "curl", "-s", "-o", "/dev/null", "http://127.0.0.1:8600/"); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	for n := 0; n < 50 && code == "" && first; n++ { // it is printed after the port is open
		b, _ := os.ReadFile(i.path("service.log"))
		if _, rest, ok := strings.Cut(string(b), "--setup-code "); ok {
			code, _, _ = strings.Cut(rest, " ")
		}
		time.Sleep(20 * time.Millisecond)
	}
	return code, err
}

func dialled(socket string) error {
	c, err := net.Dial("unix", socket)
	if err == nil {
		_ = c.Close()
	}
	return err
}

// stop ends both in an orderly way.
func (i *island) stop() {
	for _, cmd := range []**exec.Cmd{&i.service, &i.gateway} {
		if *cmd != nil {
			_ = (*cmd).Process.Signal(os.Interrupt)
			_ = (*cmd).Wait()
			*cmd = nil
		}
	}
}

func (i *island) path(name string) string { return filepath.Join(i.folder, name) }

// do runs yl on the gateway.
func (i *island) do(ctx context.Context, args ...string) (string, error) {
	return i.Run(ctx, hosts.Gateway, append([]string{i.yl, "--access", i.path("access.json")}, args...)...)
}

func (i *island) install(ctx context.Context, s *demo.Scenario) error {
	code, err := i.start(ctx)
	if err != nil {
		return err
	}
	secret := func(name string) error {
		return os.WriteFile(i.path(name+".password"), []byte(NewPassword()+"\n"), 0o600)
	}
	if err := secret("admin"); err != nil {
		return err
	}
	steps := [][]string{
		{"sign-in", "--setup-code", code, "--password-file", i.path("admin.password"), "http://127.0.0.1:8600"},
		{"certificate", "make", CertificateName, "--for", "gate.tern.example"},
	}
	for _, p := range s.People {
		if err := secret(p.User); err != nil {
			return err
		}
		add := []string{"users", "add", p.User, "--full-name", p.Name, "--new-group", "--password-file", i.path(p.User + ".password")}
		for _, g := range p.Groups {
			add = append(add, "--group", g)
		}
		steps = append(steps, add)
	}
	for _, args := range steps {
		if _, err := i.do(ctx, args...); err != nil {
			return err
		}
	}
	if err := i.commit(ctx, s.Plan); err != nil {
		return err
	}
	for _, p := range s.People {
		if _, err := i.do(ctx, "probe", "kit", "--user", p.User, i.path(p.User+".kit")); err != nil {
			return err
		}
	}
	return nil
}

func (i *island) commit(ctx context.Context, text string) error {
	if err := os.WriteFile(i.path("plan.yaml"), []byte(text), 0o600); err != nil {
		return err
	}
	if _, err := i.do(ctx, "plan", "load", i.path("plan.yaml")); err != nil {
		return err
	}
	_, err := i.do(ctx, "plan", "commit", "-m", "Tern Island", "--accept", "all", "--because", "it is a demonstration")
	return err
}

// tell tries the whole story.
func (i *island) tell(ctx context.Context, tell func(name string, ok bool, seen string)) {
	laptop := hosts.Laptop("home")
	try := func(host string, args ...string) (string, bool) {
		out, err := i.Run(ctx, host, args...)
		if err != nil && out == "" {
			out = err.Error()
		}
		lines := strings.Split(strings.TrimSpace(out), "\n")
		return lines[len(lines)-1], err == nil
	}
	dial := func(user string) (string, bool) {
		out, err := i.Run(ctx, laptop, i.yl, "dial", "up", "--background", "--name", "home", "--password-file", i.path(user+".password"),
			i.path(user+".kit"))
		first, _, _ := strings.Cut(out, "\n")
		if err != nil {
			first = err.Error()
		}
		return first, err == nil
	}
	ping := func(more ...string) (string, bool) {
		return try(laptop, append([]string{"ping", "-c", "1", "-W", "2"}, more...)...)
	}
	fetch := func(url string) (string, bool) { return try(laptop, "curl", "-sS", "--max-time", "4", url) }
	refused := func(seen string, ok bool) (bool, string) { return !ok, seen }

	seen, ok := ping("10.20.30.5")
	ok, seen = refused(seen, ok)
	tell("before: the laptop at home does not reach the archive", ok, seen)
	seen, ok = dial("rory.researcher")
	tell("yl dial up, as a researcher", ok, seen)
	seen, ok = ping("records.tern.example")
	tell("ping by name", ok, seen)
	seen, ok = fetch("http://records.tern.example/")
	tell("curl by name; the archive sees who it is", ok && strings.Contains(seen, "99"), seen)
	seen, ok = fetch("http://10.20.0.20/")
	ok, seen = refused(seen, ok)
	tell("the office is out of bounds", ok, seen)
	seen, ok = ping("-M", "do", "-s", "1292", "10.20.30.5")
	tell("the largest packet, 1320 octets", ok, seen)
	seen, ok = ping("-M", "do", "-s", "1293", "10.20.30.5")
	ok, seen = refused(seen, ok)
	tell("a larger one is told so", ok, seen)
	_, _ = try(laptop, i.yl, "dial", "down", "home")
	seen, ok = dial("wanda.warden")
	tell("yl dial up, as a warden: a full tunnel", ok, seen)
	seen, ok = fetch("http://198.51.100.80/")
	tell("the internet sees the gateway's address", ok && seen == "192.0.2.10", seen)

	download, err := i.Downloading(ctx, laptop, "http://10.20.30.5/slow/20000")
	if err == nil {
		less := strings.Replace(i.plan, "groups: [wardens], to: [station, archive]", "groups: [wardens], to: [station]", 1)
		if err = i.commit(ctx, less); err == nil {
			_, err = download()
		}
	}
	ends := "it goes on to its end"
	if err != nil {
		ends = err.Error()
	}
	var exit *exec.ExitError // of a download that nothing comes of any more
	stops := errors.As(err, &exit) && exit.ExitCode() == curlTimedOut
	tell("a commit takes the archive away from wardens, and their download stops", stops, ends)
	pinging, err := i.Pinging(ctx, laptop, "10.20.0.20")
	if err != nil {
		tell("pings", false, err.Error())
		return
	}
	_ = i.service.Process.Kill()
	_ = i.service.Wait()
	time.Sleep(time.Second)
	_, err = i.start(ctx)
	pings, errPing := pinging()
	tell("the service is killed and starts again, and not one packet is missed", err == nil && errPing == nil && pings.Answered > 40 && pings.Missed == 0,
		pings.String())
	i.stop()
	_, err = i.start(ctx)
	for n := 0; n < 150 && ctx.Err() == nil; n++ {
		if seen, ok = fetch("http://198.51.100.80/"); ok && seen == "192.0.2.10" {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	tell("the gateway starts again, and the laptop comes back by itself", err == nil && ok && seen == "192.0.2.10", seen)
	seen, ok = try(laptop, i.yl, "dial", "down", "home")
	tell("yl dial down", ok, seen)
}

// toTry is what a person may try.
func (i *island) toTry(s *demo.Scenario) string {
	in := func(host string) string { return "ip netns exec " + i.Namespace(host) + " " }
	laptop := in(hosts.Laptop("home"))
	kit := func(user string) string {
		return "--password-file " + i.path(user+".password") + " " + i.path(user+".kit")
	}
	password, _ := os.ReadFile(i.path("admin.password"))
	lines := []string{
		"Tern Island stands, on real hosts. In another terminal, as root:", "",
		"  # a researcher at home",
		"  " + laptop + "ping -c 1 10.20.30.5                  # does not answer yet",
		"  " + laptop + i.yl + " dial up --background --name home " + kit("rory.researcher"),
		"  " + laptop + "ping -c 3 records.tern.example",
		"  " + laptop + "curl http://nestcams.tern.example/",
		"  " + laptop + "curl --max-time 3 http://10.20.0.20/   # the office: out of bounds",
		"  " + laptop + i.yl + " dial status",
		"  " + laptop + i.yl + " dial down", "",
		"  # the gateway's machine",
		"  " + in(hosts.Gateway) + i.yl + " host check",
		"  " + in(hosts.Gateway) + "nft list table inet yellow-lantern",
		"  " + in(hosts.Gateway) + "ip route",
		"  " + in(hosts.Gateway) + i.yl + " --access " + i.path("access.json") + " status",
		"  " + in(hosts.Gateway) + i.yl + " --access " + i.path("access.json") + " host preview", "",
		"  console, on that machine: http://127.0.0.1:8600, admin, " + strings.TrimSpace(string(password)), "",
		"Others to dial as: ",
	}
	for _, p := range s.People {
		lines[len(lines)-1] += p.User + " "
	}
	return strings.Join(append(lines, "Ctrl-C ends it, and takes all of it away."), "\n")
}
