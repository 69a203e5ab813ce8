package check

import (
	"net/mail"
	"net/url"
	"strings"
)

// mail finds what keeps people from being sent mail.
func (c *checker) mail() {
	p := c.p
	if p.MailServer == "" {
		for path, on := range map[string]bool{"password-help": p.PasswordHelp, "codes-by-mail": p.CodesByMail} {
			if on {
				c.add(Stop, "mail-nowhere", path, "say mail-server and mail-from",
					"people are to be sent mail, and there is no mail server")
			}
		}
		return
	}
	u, err := url.Parse(p.MailServer)
	if err != nil || u.Hostname() == "" || u.User != nil || strings.Trim(u.Path, "/") != "" || u.Scheme != "smtps" && u.Scheme != "smtp" {
		c.add(Stop, "mail-server", "mail-server", "write it as smtps://mail.tern.example, or smtp://mail.tern.example with STARTTLS",
			"%q is no mail server", p.MailServer)
	}
	if a, err := mail.ParseAddress(p.MailFrom); err != nil || a.Name != "" {
		c.add(Stop, "mail-from", "mail-from", "write it as gateway@tern.example", "%q is no mail address", p.MailFrom)
	}
	if p.MailAccount != "" && c.Secrets != nil && !c.Secrets[p.MailSecret] {
		c.add(Stop, "no-secret", "mail-secret", "keep it: yl secret keep "+p.MailSecret+" --kind password --from-file FILE",
			"there is no secret %q: the mail server lets account %s send nothing", p.MailSecret, p.MailAccount)
	}
	if p.PasswordHelp && p.KitsAt == "" {
		c.add(Note, "password-help-nowhere", "password-help", "say kits-at, or start the service with --kits-at",
			"people are to be sent links, and the plan does not say where people reach the service")
	}
}
