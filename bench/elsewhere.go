package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// elsewhere compares an array whose members another service lends, over the loopback, with the same one on files of its own.
func elsewhere(dir, place string) {
	mb := fmt.Sprintf("--size=%dM", *size)
	loads := []struct {
		name   string
		args   []string
		iops   bool
		target float64
		limit  string
		bare   bool // the bare loop of it is measured beside
	}{
		{"sequential write into fresh space, level 5 of 4", []string{"--rw=write", "--bs=1M", "--iodepth=8", mb, "--end_fsync=1"}, false, 0, "every byte passes a socket once more", false},
		{"sequential read 1 MiB, level 5 of 4", []string{"--rw=read", "--bs=1M", "--iodepth=8", mb, "--time_based", "--runtime=4"}, false, 0.6, "every byte passes a socket twice more", true},
		{"4 KiB random write, depth 32, level 5 of 4", []string{"--rw=randwrite", "--bs=4k", "--iodepth=32", mb, "--time_based", "--runtime=6", "--end_fsync=1"}, true, 0.5, "a read and a write on other hosts each, up to 64 of them in one go", false},
		{"4 KiB write + flush each, depth 1, level 5 of 4", []string{"--rw=randwrite", "--bs=4k", "--iodepth=1", "--fsync=1", mb, "--time_based", "--runtime=4"}, true, 0, "two round trips, after one for what is read", false},
	}
	for _, tls := range []bool{false, true} {
		way := "members elsewhere"
		if tls {
			way += ", with TLS"
		}
		for _, l := range loads {
			name := way + ": " + l.name
			if !wanted(name) {
				continue
			}
			figures := calmest(name, *rounds, func(int) (out []float64) {
				for _, remote := range []bool{false, true} {
					own, err := folder(dir, "e")
					if err != nil {
						log.Fatal(err)
					}
					s, end := onFiles(own, remote, tls)
					if !strings.HasPrefix(l.name, "sequential write") {
						fio(s.uri, loads[0].args...)
					}
					bw, iops := fio(s.uri, l.args...)
					if l.iops {
						bw = iops * (1 << 20)
					}
					out = append(out, bw/(1<<20))
					end()
				}
				return out
			})
			unit, target := "MiB/s", l.target
			if l.iops {
				unit = "op/s"
			}
			if tls {
				target = 0
			}
			r := row{Place: place, Name: name, Unit: unit, Peer: "files here", Target: target, Limit: l.limit}.of(figures[1], figures[0])
			add(r)
			if l.bare && !tls {
				passed(dir, r)
			}
		}
	}
}

// passed adds, behind a row of sequential reads, what two sockets leave of the speed with files here when nothing is done but to read, send and receive.
func passed(dir string, r row) {
	f, err := os.CreateTemp(dir, "passed")
	must(0, err)
	defer os.Remove(f.Name())
	defer f.Close()
	const size, piece = 512 << 20, 128 << 10
	must(0, f.Truncate(size))
	for at := int64(0); at < size; at += piece {
		must(f.WriteAt(make([]byte, piece), at))
	}
	figures := calmest(r.Name+", bare", *rounds, func(int) []float64 {
		return []float64{read(f, size, piece, true), read(f, size, piece, false)}
	})
	s, p := median(figures[0]), median(figures[1])
	floor := 1/r.Theirs + max(0, s-p)
	add(row{Place: r.Place, Name: r.Name + ": against the bare system calls of it", Ours: r.Ours, Theirs: 1 / floor, Unit: "MiB/s", Peer: "bare", Target: 0.8,
		Limit: fmt.Sprintf("%.2f ms a mebibyte to read, send and receive where reading takes %.2f; no more than %.2f can be had", s*1e3, p*1e3, 1/floor/r.Theirs)})
}

// read is the time in which four read a mebibyte of a file together, s; far: each sends what it read over a connection to another one.
func read(f *os.File, size, piece int64, far bool) float64 {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(0, err)
	defer l.Close()
	const readers = 4
	var all sync.WaitGroup
	began := time.Now()
	for i := range int64(readers) {
		to, err := net.Dial("tcp", l.Addr().String())
		must(0, err)
		from, err := l.Accept()
		must(0, err)
		all.Go(func() {
			defer to.Close()
			buf := make([]byte, piece)
			for at := i * piece; at < size; at += readers * piece {
				if must(f.ReadAt(buf, at)); far {
					must(to.Write(buf))
				}
			}
		})
		all.Go(func() {
			defer from.Close()
			buf := make([]byte, piece)
			for {
				if _, err := io.ReadFull(from, buf); err != nil {
					return
				}
			}
		})
	}
	all.Wait()
	return time.Since(began).Seconds() / float64(size>>20)
}

// onFiles serves an array of four files, its own or those of another service.
func onFiles(dir string, remote, tls bool) (s *server, end func()) {
	home, other := filepath.Join(dir, "gull"), filepath.Join(dir, "heron")
	must(0, os.MkdirAll(home, 0o700))
	must(0, os.MkdirAll(other, 0o700))
	var names []string
	for i := range 4 {
		name := filepath.Join(dir, fmt.Sprint("disk", i))
		must(0, os.WriteFile(name, nil, 0o600))
		must(0, os.Truncate(name, 1<<30))
		names = append(names, name)
	}
	end = func() {
		s.stop()
		_ = os.RemoveAll(dir)
	}
	if remote {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		must(0, err)
		address := l.Addr().String()
		_ = l.Close()
		certs, scheme := "", "nbd"
		if tls {
			certs, scheme = certificate(dir), "nbds"
		}
		must(0, os.WriteFile(filepath.Join(other, "nidalo.toml"), fmt.Appendf(nil, "host_name = \"heron\"\n[lend]\naddress = %q\n%s", address, certs), 0o600))
		must(0, os.WriteFile(filepath.Join(home, "nidalo.toml"), fmt.Appendf(nil, "host_name = \"gull\"\n[remote]\n%s", certs), 0o600))
		nidalo(other, append([]string{"lend", "-to", "gull"}, names...)...)
		lender := exec.Command(*program, "serve", "-home", other)
		must(0, begin(lender))
		waitSocket(filepath.Join(other, "nbd.sock"))
		time.Sleep(500 * time.Millisecond)
		for i, name := range names {
			names[i] = scheme + "://" + address + "/" + name
		}
		stop := end
		end = func() {
			s.stop()
			_ = lender.Process.Signal(os.Interrupt)
			_ = lender.Wait()
			stop()
		}
	}
	nidalo(home, append([]string{"create", "-yes", "-name", "t", "-level", "5"}, names...)...)
	s = &server{name: "nidalo", dir: home}
	s.start()
	return s, end
}

// certificate makes one that signs itself, for the loopback, and returns the keys of a table that name it.
func certificate(dir string) string {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(0, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "gull"}, DNSNames: []string{"gull"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	must(0, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	must(0, err)
	out := ""
	for field, block := range map[string]*pem.Block{"cert": {Type: "CERTIFICATE", Bytes: der}, "key": {Type: "PRIVATE KEY", Bytes: raw}} {
		file := filepath.Join(dir, field+".pem")
		must(0, os.WriteFile(file, pem.EncodeToMemory(block), 0o600))
		out += fmt.Sprintf("%s = %q\n", field, file)
	}
	return out + fmt.Sprintf("ca = %q\n", filepath.Join(dir, "cert.pem"))
}
