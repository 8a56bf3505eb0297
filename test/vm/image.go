//go:build linux

package vm

import (
	"crypto/sha256"
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Images are what a guest boots from.
type Images struct {
	Kernel, Initrd, Root string // files
	Release              string // of the kernel
	Systemd              bool   // as the first process of the guest
}

//go:embed image.sh
var script []byte

// Build makes the images for one of Debian's kernel packages, or finds those that were made before, in the user's cache.
func Build(kernel string) (Images, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	folder := filepath.Join(cache, "nidalo-vm", fmt.Sprintf("%s-%x", kernel, sha256.Sum256(script))[:len(kernel)+13])
	if _, err := os.Stat(filepath.Join(folder, "release")); err != nil {
		fresh := folder + fmt.Sprintf(".%d", os.Getpid())
		defer os.RemoveAll(fresh)
		cmd := exec.Command("bash", "-s", kernel, fresh)
		cmd.Stdin = strings.NewReader(string(script))
		if out, err := cmd.CombinedOutput(); err != nil {
			return Images{}, fmt.Errorf("images for %s: %w\n%s", kernel, err, out)
		}
		_ = os.RemoveAll(folder)
		if err := os.Rename(fresh, folder); err != nil {
			return Images{}, err
		}
	}
	release, err := os.ReadFile(filepath.Join(folder, "release"))
	return Images{Kernel: filepath.Join(folder, "kernel"), Initrd: filepath.Join(folder, "initrd"), Root: filepath.Join(folder, "root.img"),
		Release: strings.TrimSpace(string(release))}, err
}
