package hosts

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/lab"
)

// offer starts what a host offers: the system's own name server and web server.
func (s *Site) offer(ctx context.Context, h lab.Host) error {
	if h.DNS {
		if err := s.names(ctx, h.Name, s.d.Names); err != nil {
			return err
		}
	}
	if h.PublicDNS {
		if err := s.names(ctx, h.Name, s.d.PublicNames); err != nil {
			return err
		}
	}
	ports := map[uint16]string{}
	for _, p := range h.Web {
		ports[p] = "web"
	}
	for _, p := range h.Mirror {
		ports[p] = "mirror"
	}
	for _, p := range h.TCP {
		ports[p] = "tcp"
	}
	for _, port := range slices.Sorted(maps.Keys(ports)) {
		// The text goes with the command: a file that is written once more for the next would be empty for whoever reads it meanwhile.
		if err := s.serve(ctx, h.Name, port, []string{"tcp6"}, "python3", "-u", "-c", server,
			ports[port], fmt.Sprint(port), h.Name+" of "+s.d.Called()); err != nil {
			return err
		}
	}
	return nil
}

// serve starts a program that opens a port, which is listed in tables of the kernel then.
func (s *Site) serve(ctx context.Context, host string, port uint16, tables []string, args ...string) error {
	words, err := os.Create(filepath.Join(s.folder, fmt.Sprintf("%s-%d.log", host, port)))
	if err != nil {
		return err
	}
	defer words.Close()
	cmd := s.Command(ctx, host, args...)
	cmd.Stderr = words
	if err := s.begin(cmd); err != nil {
		return err
	}
	s.offers = append(s.offers, offered{host, cmd.Process.Pid, args[0], port, tables, words.Name()})
	return nil
}

// server is a web server of the system's Python: a page with a host's name and one with an octet a thousand times as often as it is asked,
// at once or 200 KB a second, or one that tells the visitor's address; or a port that says its name and closes.
const server = `
import http.server, socket, socketserver, sys, time
kind, port, name = sys.argv[1], int(sys.argv[2]), sys.argv[3]
class Six:
    address_family = socket.AF_INET6
    allow_reuse_address = True
    daemon_threads = True
    def server_bind(self):
        self.socket.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
        super().server_bind()
class Page(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        seen = self.client_address[0].removeprefix("::ffff:")
        body = (seen if kind == "mirror" else name + ", asked by " + seen).encode() + b"\n"
        if self.path.startswith(("/large/", "/slow/")):
            body = b"x" * (1000 * int(self.path.split("/")[2]))
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.path.startswith("/large/"):
            for at in range(0, len(body), 20000):
                self.wfile.write(body[at:at + 20000])
        elif self.path.startswith("/slow/"):
            for at in range(0, len(body), 20000):
                self.wfile.write(body[at:at + 20000])
                time.sleep(0.1)
        else:
            self.wfile.write(body)
    def do_PUT(self):
        left = int(self.headers["Content-Length"])
        while left > 0:
            got = len(self.rfile.read(min(left, 1 << 16)))
            if not got: return
            left -= got
        self.send_response(204)
        self.send_header("Content-Length", "0")
        self.end_headers()
    def log_message(self, *a): pass
class Said(socketserver.BaseRequestHandler):
    def handle(self): self.request.sendall(name.encode() + b"\n")
class Web(Six, socketserver.ThreadingMixIn, socketserver.TCPServer): pass
Web(("::", port), Said if kind == "tcp" else Page).serve_forever()
`

// names starts a name server that tells names and nothing else.
func (s *Site) names(ctx context.Context, h string, names map[string][]netip.Addr) error {
	args := []string{
		"dnsmasq", "--no-daemon", "--user=root", "--conf-file=/dev/null", "--no-resolv", "--no-hosts",
		"--log-facility=/dev/null", "--pid-file=",
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		words := []string{name}
		for _, a := range names[name] {
			words = append(words, a.String())
		}
		_, domain, _ := strings.Cut(name, ".")
		args = append(args, "--host-record="+strings.Join(words, ","), "--local=/"+domain+"/")
	}
	return s.serve(ctx, h, 53, []string{"tcp", "tcp6"}, args...)
}

// offered is a port of a host's that a process is to open.
type offered struct {
	host    string
	process int
	program string // that the process is once it is on its host
	port    uint16
	tables  []string // of the kernel, in which it is listed then
	words   string   // file with what it complains of
}

// open waits until everything that is offered is: a site whose servers do not listen yet is not as it is described.
func (s *Site) open(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	for _, o := range s.offers {
		for !o.listens() {
			select {
			case <-ctx.Done():
				return o.complaint("does not listen")
			case <-time.After(20 * time.Millisecond):
			}
			if o.ended() {
				return o.complaint("ended before it listened")
			}
		}
	}
	return nil
}

// complaint tells what is wrong, with the process's own words.
func (o offered) complaint(what string) error {
	words, err := os.ReadFile(o.words)
	if err != nil {
		words = []byte(err.Error())
	}
	return fmt.Errorf("%s of %s %s on port %d: %s", o.program, o.host, what, o.port, bytes.TrimSpace(words))
}

// ended tells whether the process is over: it is not waited for yet, so that its number is nobody else's.
func (o offered) ended() bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", o.process))
	if err != nil {
		return true
	}
	_, after, _ := bytes.Cut(b, []byte(") ")) // proc(5): the state follows the program's name
	return bytes.HasPrefix(after, []byte("Z"))
}

// listens looks into the tables of the network that the process is on.
func (o offered) listens() bool {
	proc := fmt.Sprintf("/proc/%d/", o.process)
	if program, err := os.ReadFile(proc + "comm"); err != nil || strings.TrimSpace(string(program)) != o.program {
		return false // it is on its way there
	}
	for _, table := range o.tables {
		b, err := os.ReadFile(proc + "net/" + table)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(b)) {
			// number, local address with its port in hexadecimal, remote address, state: 0A listens
			if f := strings.Fields(line); len(f) > 3 && f[3] == "0A" && strings.HasSuffix(f[1], fmt.Sprintf(":%04X", o.port)) {
				return true
			}
		}
	}
	return false
}
