package probe

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"ironseal/pki/specimen"
)

// serve answers every connection by fn, until the test ends.
func serve(t *testing.T, fn func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				fn(c)
			}()
		}
	}()
	return l.Addr().String()
}

// pair is what a stand-in presents.
func pair(t testing.TB) tls.Certificate {
	t.Helper()
	e := specimen.Make(t, nil, specimen.Plan{Subject: "CN=m.ternbay.example", Names: []string{"m.ternbay.example"}})
	return tls.Certificate{Certificate: [][]byte{e.Cert.Raw}, PrivateKey: e.Signer}
}

// words answers lines: each that is awaited with what is said then; the first is said at once.
func words(c net.Conn, say string, then ...string) bool {
	r := bufio.NewReaderSize(c, 1) // reads as far as a line goes, and leaves TLS alone
	fmt.Fprint(c, say)
	for i := 0; i+1 < len(then); i += 2 {
		line := ""
		for !strings.HasSuffix(line, "\n") && !strings.HasSuffix(line, ">") {
			b, err := r.ReadByte()
			if err != nil {
				return false
			}
			line += string(b)
			if strings.HasPrefix(line, "<?") && strings.Count(line, ">") < 2 && strings.HasSuffix(line, ">") {
				line += " "
			}
		}
		if !strings.Contains(line, then[i]) {
			return false
		}
		fmt.Fprint(c, then[i+1])
	}
	return true
}

// octets awaits bytes and answers others.
func octets(c net.Conn, say, await, answer string) bool {
	fmt.Fprint(c, say)
	got := make([]byte, len(await))
	if _, err := io.ReadFull(c, got); err != nil || !bytes.Equal(got, []byte(await)) {
		return false
	}
	fmt.Fprint(c, answer)
	return true
}

const ldapAsk = "\x30\x1d\x02\x01\x01\x77\x18\x80\x161.3.6.1.4.1.1466.20037"

func mysqlGreeting(capabilities uint16) string {
	body := "\x0a8.0.33\x00" + "\x01\x00\x00\x00" + "abcdefgh" + "\x00" + string([]byte{byte(capabilities),
		byte(capabilities >> 8)}) + "\x2d\x02\x00\xff\xff\x15" + strings.Repeat("\x00", 10) + "abcdefghijkl\x00"
	return string([]byte{byte(len(body)), 0, 0, 0}) + body
}

const mysqlAsk = "\x20\x00\x00\x01\x00\x8a\x00\x00\x00\x00\x00\x01\x2d"

// Each dialect comes to TLS with a stand-in that speaks it as its standard says.
func TestTheWordsBeforeTLS(t *testing.T) {
	mine := pair(t)
	for over, prepare := range map[Dialect]func(net.Conn) bool{
		SMTP: func(c net.Conn) bool {
			return words(c, "220-welcome\r\n220 mail\r\n", "EHLO", "250-mail\r\n250-SIZE\r\n250 STARTTLS\r\n",
				"STARTTLS",
				"220 go\r\n")
		},
		IMAP: func(c net.Conn) bool {
			return words(c, "* OK [CAPABILITY IMAP4rev1 STARTTLS] ready\r\n", "a1 STARTTLS",
				"* BYE not yet\r\na1 OK go\r\n")
		},
		POP3: func(c net.Conn) bool { return words(c, "+OK ready\r\n", "STLS", "+OK\r\n") },
		FTP:  func(c net.Conn) bool { return words(c, "220 ready\r\n", "AUTH TLS", "234 go\r\n") },
		LDAP: func(c net.Conn) bool {
			return octets(c, "", ldapAsk, // with lengths as some servers write them, longer than DER's
				"\x30\x84\x00\x00\x00\x10\x02\x01\x01\x78\x84\x00\x00\x00\x07\x0a\x01\x00\x04\x00\x04\x00")
		},
		Postgres: func(c net.Conn) bool { return octets(c, "", "\x00\x00\x00\x08\x04\xd2\x16\x2f", "S") },
		MySQL: func(c net.Conn) bool {
			return octets(c, mysqlGreeting(0xffff), mysqlAsk+strings.Repeat("\x00", 23), "")
		},
		XMPP: func(c net.Conn) bool {
			return words(c, "", "jabber:client", "<?xml version='1.0'?><stream:stream><stream:features>"+
				"<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'><required/></starttls></stream:features>",
				"<starttls",
				"<proceed xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>")
		},
	} {
		t.Run(fmt.Sprint(over), func(t *testing.T) {
			addr := serve(t, func(c net.Conn) {
				if prepare(c) {
					_ = tls.Server(c, &tls.Config{Certificates: []tls.Certificate{mine}}).Handshake()
				}
			})
			target, err := ParseTarget("m.ternbay.example@" + string(over) + "://" + addr)
			if err != nil {
				t.Fatal(err)
			}
			a := Options{Wait: 5 * time.Second}.Look(context.Background(), target, time.Now)
			if a.Err != nil || len(a.Presented) != 1 || !a.Proven {
				t.Errorf("%s: stage %s, %v", over, a.Stage, a.Err)
			}
		})
	}
}

// What does not offer TLS, says something else, says no end of it or nothing at all is reported,
// in time and within bounds.
func TestPeersThatSpeakOtherwise(t *testing.T) {
	endless := func(c net.Conn) {
		for {
			if _, err := c.Write(bytes.Repeat([]byte("220-x\r\n"), 1000)); err != nil {
				return
			}
		}
	}
	longLine := func(c net.Conn) {
		for {
			if _, err := c.Write(bytes.Repeat([]byte("x"), 4096)); err != nil {
				return
			}
		}
	}
	slow := func(c net.Conn) {
		for {
			if _, err := c.Write([]byte("2")); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	says := func(text string) func(net.Conn) {
		return func(c net.Conn) { fmt.Fprint(c, text); _, _ = io.Copy(io.Discard, c) }
	}
	for name, c := range map[string]struct {
		over Dialect
		peer func(net.Conn)
		want string
	}{
		"no STARTTLS": {SMTP, func(c net.Conn) { words(c, "220 x\r\n", "EHLO", "250 x\r\n") },
			"does not offer TLS"},
		"switched off": {SMTP, func(c net.Conn) {
			words(c, "220 x\r\n", "EHLO", "250-x\r\n250 STARTTLS\r\n", "STARTTLS", "454 TLS not available\r\n")
		}, `it says "454 TLS not available"`},
		"IMAP says no": {IMAP, func(c net.Conn) { words(c, "* OK x\r\n", "a1", "a1 NO not now\r\n") },
			`says "a1 NO not now"`},
		"refused": {SMTP, says("554 \x1b[2Jno\r\n"),
			`expected a line that begins with 220, and it says "554 \x1b`},
		"endless":         {SMTP, endless, "more than 65536 bytes"},
		"one line":        {IMAP, longLine, "a line"},
		"slow":            {POP3, slow, "stops during the words"},
		"silent":          {FTP, func(net.Conn) { time.Sleep(2 * time.Second) }, "stops during the words"},
		"no for postgres": {Postgres, says("N"), "does not offer TLS"},
		"an old MySQL":    {MySQL, says(mysqlGreeting(0x0200)), "does not offer TLS"},
		"HTTP for MySQL":  {MySQL, says("HTTP/1.1 200 OK\r\n"), "a greeting of MySQL"},
		"LDAP refuses":    {LDAP, says("\x30\x0c\x02\x01\x01\x78\x07\x0a\x01\x34\x04\x00\x04\x00"), "result 52"},
		"LDAP of another act": {LDAP, says("\x30\x0c\x02\x01\x01\x65\x07\x0a\x01\x00\x04\x00\x04\x00"),
			"an answer to StartTLS"},
		"LDAP of 2 GB": {LDAP, says("\x30\x84\x7f\xff\xff\xff"), "an answer of LDAP"},
		"XMPP without": {XMPP, says("<stream:stream><stream:features></stream:features>"),
			"does not offer TLS"},
		"XMPP refuses":         {XMPP, says("<stream:features><starttls/><failure/>"), "refuses to start TLS"},
		"SSH":                  {Direct, says("SSH-2.0-x\r\n"), "as SSH does"},
		"plain HTTP":           {Direct, says("HTTP/1.1 400 Bad Request\r\n\r\n"), "as plain HTTP does"},
		"mail before STARTTLS": {Direct, says("220 mail ready\r\n"), "before STARTTLS"},
		"it hangs up":          {Direct, func(net.Conn) {}, "ends the connection in the middle of the handshake"},
		"it hangs up early":    {SMTP, func(net.Conn) {}, "ends the connection in the middle of the words before TLS"},
		"it hangs up hard": {Direct, func(c net.Conn) {
			_, err := c.Read(make([]byte, 1))
			_ = errors.Join(err, c.(*net.TCPConn).SetLinger(0))
		}, "ends the connection in the middle of the handshake"},
		"nothing": {Direct, func(net.Conn) { time.Sleep(2 * time.Second) },
			"stops during the handshake"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			target, err := ParseTarget(string(c.over) + "://" + serve(t, c.peer))
			if err != nil {
				t.Fatal(err)
			}
			wait := 20 * time.Second // whatever is wrong is found first, on slow machines too
			if strings.HasPrefix(c.want, "stops during") {
				wait = 1500 * time.Millisecond
			}
			a := Options{Wait: wait}.Look(context.Background(), target, time.Now)
			if a.Stage == Shaken || !strings.Contains(a.Words(), c.want) {
				t.Errorf("%s: stage %s, %q", name, a.Stage, a.Words())
			}
		})
	}
	t.Run("nobody", func(t *testing.T) {
		a := Options{}.Look(context.Background(), Target{Name: "x", Host: "127.0.0.1", Port: "1"}, time.Now)
		if a.Words() != "nothing listens on this port" {
			t.Error(a.Words())
		}
		a = Options{}.Look(context.Background(), Target{Name: "x", Host: "no-such.invalid", Port: "1"}, time.Now)
		if a.Words() != "its name does not resolve from here" {
			t.Error(a.Words(), a.Err)
		}
		ctx, cancel := context.WithCancel(context.Background())
		cancel()
		if a = (Options{}).Look(ctx, Target{Host: "127.0.0.1", Port: "1"}, time.Now); !errors.Is(a.Err,
			context.Canceled) {
			t.Error(a.Err)
		}
	})
}
