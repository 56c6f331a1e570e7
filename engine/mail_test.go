package engine_test

import (
	"encoding/base64"
	"errors"
	"io"
	"net"
	"net/mail"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"rudmar/core/delivery"
	"rudmar/engine"
	"rudmar/engine/notice"
	"rudmar/engine/store"
)

// postbox is a small mail server (SMTP).
type postbox struct {
	mu    sync.Mutex
	mails []string
	to    []string
	full  bool // it accepts none
}

func (p *postbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &posting{box: p}, nil }

type posting struct {
	box *postbox
	to  string
}

func (s *posting) Mail(string, *smtp.MailOptions) error { return nil }
func (s *posting) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = to
	return nil
}
func (s *posting) Reset()        {}
func (s *posting) Logout() error { return nil }
func (s *posting) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	if s.box.full {
		return &smtp.SMTPError{Code: 452, Message: "the box is full"}
	}
	s.box.mails, s.box.to = append(s.box.mails, string(text)), append(s.box.to, s.to)
	return err
}

func (p *postbox) serve(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	server := smtp.NewServer(p)
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	return l.Addr().String()
}

// Notifications are sent as e-mail by the operator's server: the sentence, with the signed event attached;
// temporarily rejected ones are retried.
func TestNotificationsByMail(t *testing.T) {
	box := &postbox{}
	server := box.serve(t)
	r := newRigWith(t, func(o *engine.Options) {
		o.Mail = notice.Mail{Server: server, From: "rudmar@brambleford.invalid", Plain: true}
	})
	ctx := t.Context()
	for _, wrong := range []string{"mailto:", "mailto:growers", "mailto:a@b.invalid\r\nBcc: x@y.invalid", "mailto:Growers <g@b.invalid>"} {
		if _, err := r.Notifications.Add(ctx, notice.NewTarget{Name: "post", URL: wrong}, "k", "wren"); !errors.Is(err, notice.ErrNotificationTarget) {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	hook, err := r.Notifications.Add(ctx, notice.NewTarget{Name: "post", URL: "mailto:growers@brambleford.invalid", Kinds: []string{"delivery.settled"}}, "key-of-the-post", "wren")
	must(t, err)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	r.until("the mail to come", func() bool { box.mu.Lock(); defer box.mu.Unlock(); return len(box.mails) == 1 })
	m, err := mail.ReadMessage(strings.NewReader(box.mails[0]))
	must(t, err)
	if got := m.Header.Get("Subject"); got != "[frostline/trial] version 1 is settled (1 case passed)" ||
		m.Header.Get("From") != "<rudmar@brambleford.invalid>" || box.to[0] != "growers@brambleford.invalid" {
		t.Errorf("%q from %s to %s", got, m.Header.Get("From"), box.to[0])
	}
	sent, err := r.Store.Notifications(ctx, hook.ID, 10)
	if err != nil || len(sent) != 1 {
		t.Fatal(sent, err)
	}
	if m.Header.Get("Rudmar-Signature") != notice.Sign("key-of-the-post", []byte(sent[0].Body)) {
		t.Errorf("it is signed with %s", m.Header.Get("Rudmar-Signature"))
	}
	body, _ := io.ReadAll(m.Body)
	encoded := base64.StdEncoding.EncodeToString([]byte(sent[0].Body))
	if text := strings.NewReplacer("\r", "", "\n", "").Replace(string(body)); !strings.Contains(text, encoded) ||
		!strings.Contains(text, "event.json") {
		t.Errorf("the event is not beside it: %s", body)
	}

	box.mu.Lock()
	box.full = true
	box.mu.Unlock()
	r.until("it to be noted that it went out", func() bool { // the mail is there before that
		n, err := r.Store.Notification(ctx, sent[0].ID)
		return err == nil && n.State == store.NotificationSent
	})
	must(t, r.Store.RetryMessage(ctx, sent[0].ID))
	r.until("it to be tried in vain", func() bool {
		list, err := r.Store.Notifications(ctx, hook.ID, 10)
		return err == nil && strings.Contains(list[0].Response, "the box is full") && list[0].Due.After(time.Now())
	})
}

// Without a server there is no e-mail, and its configuration is an error; without TLS nothing is sent unless
// the operator allows it.
func TestMailConfiguration(t *testing.T) {
	r := newRig(t)
	to := notice.NewTarget{Name: "post", URL: "mailto:growers@brambleford.invalid"}
	if _, err := r.Notifications.Add(t.Context(), to, "k", "wren"); !errors.Is(err, notice.ErrNotificationTarget) || !strings.Contains(err.Error(), "--mail-server") {
		t.Errorf("%v", err)
	}
	box := &postbox{}
	server := box.serve(t)
	r = newRigWith(t, func(o *engine.Options) { o.Mail = notice.Mail{Server: server, From: "rudmar@brambleford.invalid"} })
	hook, err := r.Notifications.Add(t.Context(), to, "k", "wren")
	must(t, err)
	r.push(first())
	r.until("it to be refused", func() bool {
		list, err := r.Store.Notifications(t.Context(), hook.ID, 10)
		return err == nil && len(list) > 0 && strings.Contains(list[len(list)-1].Response, "STARTTLS")
	})
	if len(box.mails) > 0 {
		t.Error("it was sent in the open")
	}
}
