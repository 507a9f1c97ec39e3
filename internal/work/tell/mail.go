package tell

import (
	"context"
	"errors"
	"fmt"
	"net/mail"
	"net/url"
	"strconv"

	gomail "github.com/wneessen/go-mail"
)

// mailer sends mail by a server.
type mailer struct {
	host    string
	from    string
	options []gomail.Option
}

// newMailer checks how mail is to be sent; nil where no server is set.
func newMailer(server, from string) (*mailer, error) {
	if server == "" {
		return nil, nil
	}
	u, err := url.Parse(server)
	if err != nil || u.Hostname() == "" || u.Scheme != "smtp" && u.Scheme != "smtps" {
		return nil, errors.New("mail-server: want smtp://[USER:PASSWORD@]HOST[:PORT], or smtps://")
	}
	if _, err := mail.ParseAddress(from); err != nil {
		return nil, fmt.Errorf("mail-from %q: %v; it is whom mail comes from", from, err)
	}
	m := &mailer{host: u.Hostname(), from: from, options: []gomail.Option{gomail.WithTimeout(oneTime)}}
	port := map[string]int{"smtp": 25, "smtps": 465}[u.Scheme]
	if p := u.Port(); p != "" {
		if port, err = strconv.Atoi(p); err != nil {
			return nil, fmt.Errorf("mail-server: port %q: %v", p, err)
		}
	}
	m.options = append(m.options, gomail.WithPort(port))
	switch password, _ := u.User.Password(); {
	case u.User.Username() != "": // a password goes over TLS only
		m.options = append(m.options, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover),
			gomail.WithUsername(u.User.Username()), gomail.WithPassword(password),
			gomail.WithTLSPolicy(gomail.TLSMandatory))
	default:
		m.options = append(m.options, gomail.WithTLSPolicy(gomail.TLSOpportunistic))
	}
	if u.Scheme == "smtps" {
		m.options = append(m.options, gomail.WithSSL())
	}
	return m, nil
}

// ErrNoMail is returned where the service has no mail server.
var ErrNoMail = errors.New("this service has no mail server: set mail-server and mail-from, and start it anew")

func (m *mailer) send(ctx context.Context, to string, w *words) error {
	if m == nil {
		return ErrNoMail
	}
	msg := gomail.NewMsg()
	if err := errors.Join(msg.From(m.from), msg.To(to)); err != nil {
		return err
	}
	msg.Subject("Unvora: " + w.Title)
	msg.SetMessageIDWithValue(w.ID + "@unvora")
	msg.SetDateWithValue(w.At)
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834, section 5
	msg.SetBodyString(gomail.TypeTextPlain, w.Text+"\n")
	c, err := gomail.NewClient(m.host, m.options...)
	if err != nil {
		return err
	}
	return c.DialAndSendWithContext(ctx, msg)
}
