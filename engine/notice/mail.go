package notice

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"strconv"
	"strings"

	"github.com/wneessen/go-mail"

	"rudmar/engine/store"
)

// Mail is the mail server of notifications (SMTP, RFC 5321); the operator configures it, so its address is not
// restricted.
type Mail struct {
	Server string // host:port; "" to send no e-mail
	From   string // an address
	// User and Password sign in to the server, if it requires that; only over TLS, or on this machine.
	User, Password string
	// Plain allows a server without TLS.
	Plain bool
}

// mailTo is the URL scheme of e-mail targets.
const mailTo = "mailto:"

// mailAddress checks that notifications can go to an address.
func (s *Sender) mailAddress(text string) error {
	if s.mail.Server == "" {
		return fmt.Errorf("%w: this Rudmar sends no email; its operator can set --mail-server", ErrNotificationTarget)
	}
	one, err := netmail.ParseAddress(strings.TrimPrefix(text, mailTo))
	if err != nil || one.Name != "" {
		return fmt.Errorf("%w: %q is not an email address such as mailto:growers@brambleford.invalid", ErrNotificationTarget, text)
	}
	return nil
}

// post sends a notification as e-mail: its sentence, and the whole event beside it.
func (s *Sender) post(ctx context.Context, h store.NotificationTarget, n store.Notification,
	signature string) (string, error) {
	var event struct {
		ID   string `json:"id"`
		Data struct {
			Text string `json:"text"`
		} `json:"data"`
	}
	if err := json.Unmarshal([]byte(n.Body), &event); err != nil {
		return "", fmt.Errorf("reading the notification: %w", err)
	}
	where := strings.Trim(n.Service+"/"+n.Stage, "/")
	m := mail.NewMsg()
	m.Subject(oneLine(fmt.Sprintf("[%s] %s", where, event.Data.Text)))
	m.SetGenHeader(SignatureHeader, signature)
	m.SetMessageIDWithValue(event.ID + "@rudmar")
	m.SetBodyString(mail.TypeTextPlain, fmt.Sprintf("%s\n\n%s, %s\n", event.Data.Text, n.Kind, where))
	err := errors.Join(m.From(s.mail.From), m.To(strings.TrimPrefix(h.URL, mailTo)),
		m.AttachReader("event.json", bytes.NewReader([]byte(n.Body)), mail.WithFileContentType("application/cloudevents+json")))
	if err != nil {
		return "", fmt.Errorf("writing the email: %w", err)
	}
	client, err := s.mailClient()
	if err != nil {
		return "", err
	}
	if err := client.DialAndSendWithContext(ctx, m); err != nil {
		return "", fmt.Errorf("the mail server: %w", err)
	}
	return "accepted by " + s.mail.Server, nil
}

func (s *Sender) mailClient() (*mail.Client, error) {
	host, port, err := net.SplitHostPort(s.mail.Server)
	if err != nil {
		return nil, fmt.Errorf("the mail server %q is not host:port: %w", s.mail.Server, err)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("the mail server %q is not host:port: %w", s.mail.Server, err)
	}
	policy := mail.TLSMandatory
	if s.mail.Plain {
		policy = mail.TLSOpportunistic
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(sendFor), mail.WithTLSPolicy(policy)}
	if number == 465 { // implicit TLS (RFC 8314)
		options = append(options, mail.WithSSL())
	}
	if s.mail.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.mail.User),
			mail.WithPassword(s.mail.Password))
	}
	return mail.NewClient(host, options...)
}

// subjectLength is how long a subject is at most.
const subjectLength = 200

// oneLine converts a text to one line, so no part of it becomes another header.
func oneLine(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if runes := []rune(text); len(runes) > subjectLength {
		return string(runes[:subjectLength]) + "…"
	}
	return text
}
