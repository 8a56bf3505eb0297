package alert

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"nidalo/core/event"

	"github.com/wneessen/go-mail"
)

func (e Email) address() (host string, port int) {
	host, text, err := net.SplitHostPort(e.Server)
	if err != nil {
		return e.Server, 587
	}
	if port, err = strconv.Atoi(text); err != nil {
		port = -1
	}
	return host, port
}

// Check says what is wrong with the settings.
func (e Email) Check() error {
	host, port := e.address()
	local := loopback(host)
	switch {
	case strings.ContainsAny(e.Server, " /@") || port < 1 || port > 65535:
		return fmt.Errorf("server = %q: write HOST:PORT", e.Server)
	case e.Server == "" || e.From == "" || len(e.To) == 0:
		return errors.New("server, from and to are needed")
	case e.TLS != "" && e.TLS != "starttls" && e.TLS != "implicit" && e.TLS != "none":
		return fmt.Errorf("tls = %q: starttls, implicit or none", e.TLS)
	case e.TLS == "none" && !local:
		return errors.New("tls = \"none\" is for servers on the loopback only: messages and passwords would be readable on the way")
	case e.User != "" && e.PasswordFile == "":
		return errors.New("user needs password_file")
	}
	for _, address := range append([]string{e.From}, e.To...) {
		if _, err := netmail.ParseAddress(address); err != nil {
			return fmt.Errorf("%q is not a mail address", address)
		}
	}
	for _, file := range []string{e.PasswordFile, e.CAFile} {
		if file != "" && !filepath.IsAbs(file) {
			return fmt.Errorf("%q is not an absolute path", file)
		}
	}
	return checkLeast(e.LeastOf)
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Check says what is wrong with the settings.
func (w Webhook) Check() error {
	u, err := url.Parse(w.URL)
	switch {
	case w.URL == "":
		return errors.New("url is needed")
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return errors.New("url: write https://HOST/PATH") // the address may hold a secret and is not shown
	case w.TokenFile != "" && !filepath.IsAbs(w.TokenFile):
		return fmt.Errorf("token_file: %q is not an absolute path", w.TokenFile)
	case u.User != nil:
		return errors.New("url: a password does not belong into an address; token_file names a file that holds one")
	case u.Scheme == "http" && !w.Plain && !loopback(u.Hostname()):
		return errors.New("url: http is not encrypted; write https, or plain = true if that is meant")
	}
	return checkLeast(w.LeastOf)
}

// Check says what is wrong with the settings.
func (c Command) Check() error {
	if len(c.Run) == 0 || c.Run[0] == "" || c.Run[0][0] != '/' {
		return errors.New("run needs a program by its absolute path, and its arguments")
	}
	return checkLeast(c.LeastOf)
}

func checkLeast(least event.Severity) error {
	if least != "" && !slices.Contains(event.Severities, least) {
		return fmt.Errorf("least = %q: info, warning or critical", least)
	}
	return nil
}

func (e Email) options() ([]mail.Option, error) {
	host, port := e.address()
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(20 * time.Second)}
	settings := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if e.CAFile != "" {
		pem, err := os.ReadFile(e.CAFile)
		if err != nil {
			return nil, err
		}
		settings.RootCAs = x509.NewCertPool()
		if !settings.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", e.CAFile)
		}
	}
	options = append(options, mail.WithTLSConfig(settings))
	switch e.TLS {
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	case "implicit":
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if e.User != "" {
		password, err := secret(e.PasswordFile)
		if err != nil {
			return nil, err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(e.User), mail.WithPassword(password))
	}
	return options, nil
}
