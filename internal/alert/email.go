package alert

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"
)

func (e Email) address() (host string, port int) {
	host, text, err := net.SplitHostPort(e.Server)
	if err != nil {
		return e.Server, 587
	}
	port, _ = strconv.Atoi(text)
	return host, port
}

// Check says what is wrong with the settings.
func (e Email) Check() error {
	host, _ := e.address()
	ip := net.ParseIP(host)
	local := host == "localhost" || ip != nil && ip.IsLoopback()
	switch {
	case e.Server == "" || e.From == "" || len(e.To) == 0:
		return errors.New("server, from and to are needed")
	case e.TLS != "" && e.TLS != "starttls" && e.TLS != "implicit" && e.TLS != "none":
		return fmt.Errorf("tls = %q: starttls, implicit or none", e.TLS)
	case e.TLS == "none" && !local:
		return errors.New("tls = \"none\" is for servers on the loopback only: messages and passwords would be readable on the way")
	case e.User != "" && e.PasswordFile == "":
		return errors.New("user needs password_file")
	}
	return checkLeast(e.LeastOf)
}

// Check says what is wrong with the settings.
func (w Webhook) Check() error {
	if w.URL == "" {
		return errors.New("url is needed")
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

func checkLeast(least string) error {
	if least != "" && least != "info" && least != "warning" && least != "critical" {
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
