package postbox

import (
	"bufio"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"strings"
	"time"
)

// talk speaks with one client until it leaves.
func (b *Box) talk(c net.Conn) {
	safe := b.o.Whole
	if safe {
		c = tls.Server(c, b.conf)
	}
	r := bufio.NewReaderSize(c, longestLine)
	say := func(lines string) bool {
		_ = c.SetDeadline(time.Now().Add(patience))
		_, err := io.WriteString(c, strings.ReplaceAll(lines, "\n", "\r\n")+"\r\n")
		return err == nil
	}
	if !say("220 " + Host + " takes mail, and sends none on") {
		return
	}
	for {
		line, err := r.ReadSlice('\n')
		if err != nil { // also where one is too long
			return
		}
		word, _, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(string(line))), " ")
		switch {
		case word == "QUIT":
			say("221 goodbye")
			return
		case word == "EHLO" || word == "HELO":
			offers := "250-AUTH PLAIN\n250 8BITMIME"
			if !safe {
				offers = "250 STARTTLS"
			}
			say("250-" + Host + "\n" + offers)
		case word == "STARTTLS" && !safe:
			if r.Buffered() > 0 { // what was put in before TLS must not count after it
				return
			}
			say("220 go ahead")
			c, safe = tls.Server(c, b.conf), true
			r.Reset(c)
		case !safe && word != "NOOP":
			say("530 say STARTTLS first") // RFC 3207 §4
		case word == "AUTH":
			say("235 whoever you are")
		case word == "DATA":
			say("354 go on")
			text, err := message(r)
			if err == nil {
				err = b.keep(text)
			}
			if errors.Is(err, errTooLong) || err == nil {
				say(map[bool]string{true: "250 kept", false: "552 too long"}[err == nil])
				continue
			}
			say("452 " + err.Error())
			return
		default:
			say("250 well")
		}
	}
}

var errTooLong = errors.New("the message is too long")

// message reads one up to the line with a dot alone (RFC 5321 §4.5.2).
func message(r *bufio.Reader) (string, error) {
	var text strings.Builder
	var long error
	for begins := true; ; {
		line, err := r.ReadSlice('\n')
		whole := err == nil
		switch {
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return "", err
		case begins && string(line) == ".\r\n":
			return text.String(), long
		case text.Len()+len(line) > longestMail:
			long = errTooLong
		case begins && line[0] == '.':
			text.Write(line[1:])
		default:
			text.Write(line)
		}
		begins = whole
	}
}
