package survey

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Look lists the block devices of this host.
func Look() (Host, error) { return look("/") }

// Of is the device with a number, "major:minor". It is false when the kernel has none.
func Of(number string) (Device, bool) {
	dir, err := filepath.EvalSymlinks(filepath.Join("/sys/dev/block", number))
	if err != nil {
		return Device{}, false
	}
	return describe("/", dir)
}

// look reads the trees that hang on root: sys, dev and run, which a test has recorded.
func look(root string) (Host, error) {
	entries, err := os.ReadDir(filepath.Join(root, "sys/class/block"))
	if err != nil {
		return nil, err
	}
	out := Host{}
	for _, e := range entries {
		dir, err := filepath.EvalSymlinks(filepath.Join(root, "sys/class/block", e.Name()))
		if err != nil {
			continue // it went just now
		}
		if d, ok := describe(root, dir); ok {
			out[d.Name] = d
		}
	}
	for name, d := range out {
		if !d.Whole() {
			continue
		}
		if len(d.Below) > 0 && d.WWN != "" && !out.pathsOf(d) {
			d.WWN = "" // it is made of something else besides, so it is no path to it
			out[name] = d
		}
	}
	return out, nil
}

// pathsOf says whether everything below a mapped device has its world-wide name.
func (h Host) pathsOf(d Device) bool {
	return !slices.ContainsFunc(d.Below, func(name string) bool { return h[name].WWN != d.WWN })
}

// passed are devices that are no disks: in memory, for removable media, or without anything behind them.
var passed = regexp.MustCompile(`^(ram|zram|sr|fd|mtdblock)\d*$`)

func describe(root, dir string) (Device, bool) {
	d := Device{Name: strings.ReplaceAll(filepath.Base(dir), "!", "/"), Sector: 512}
	whole := dir
	if part := text(dir, "partition"); part != "" {
		d.Part, _ = strconv.Atoi(part)
		d.Start = number(dir, "start") * 512
		whole = filepath.Dir(dir)
		d.Disk = strings.ReplaceAll(filepath.Base(whole), "!", "/")
	}
	d.Number, d.Size = text(dir, "dev"), number(dir, "size")*512
	kernel := strings.TrimPrefix(filepath.Base(whole), "!")
	if d.Number == "" || passed.MatchString(kernel) || text(whole, "hidden") == "1" {
		return d, false
	}
	if d.Size == 0 && (strings.HasPrefix(kernel, "loop") || strings.HasPrefix(kernel, "nbd") || strings.HasPrefix(kernel, "dm-")) {
		return d, false // there is nothing behind it
	}
	d.Path = filepath.Join("/dev", d.Name)
	d.Sequence = uint64(number(whole, "diskseq"))
	d.Sector = cmpOr(int(number(whole, "queue/logical_block_size")), 512)
	d.Physical = cmpOr(int(number(whole, "queue/physical_block_size")), d.Sector)
	d.Rotating = text(whole, "queue/rotational") == "1"
	d.ReadOnly = text(dir, "ro") == "1"
	if z := text(whole, "queue/zoned"); z == "host-managed" {
		d.Zones = z
	}
	d.State = text(whole, "device/state")
	d.Holders, d.Below = names(dir, "holders"), names(dir, "slaves")
	if d.Whole() {
		d.Parts = parts(dir)
	}
	d.name(root, whole, kernel)
	return d, true
}

func cmpOr(n, otherwise int) int {
	if n > 0 {
		return n
	}
	return otherwise
}

// name finds out what people know the disk by.
func (d *Device) name(root, whole, kernel string) {
	switch {
	case strings.HasPrefix(kernel, "loop"):
		d.Bus, d.File = "loop", text(whole, "loop/backing_file")
		d.Rotating = false
		return
	case strings.HasPrefix(kernel, "dm-"):
		d.Bus = "mapped"
		if name := text(whole, "dm/name"); name != "" && d.Whole() {
			d.Path = filepath.Join("/dev/mapper", name)
		}
		// A multipath device carries the world-wide name of its paths.
		if id, yes := strings.CutPrefix(text(whole, "dm/uuid"), "mpath-"); yes {
			d.WWN = strings.TrimPrefix(id, "3")
			if len(d.Below) > 0 {
				dir, _ := filepath.EvalSymlinks(filepath.Join(whole, "slaves", d.Below[0]))
				if path, ok := describe(root, dir); ok {
					d.Model, d.Serial, d.Bay, d.Rotating = path.Model, path.Serial, path.Bay, path.Rotating
				}
			}
		}
		return
	}
	d.Model = text(whole, "device/model")
	d.Serial = firstOf(text(whole, "serial"), text(whole, "device/serial"), serialPage(filepath.Join(whole, "device/vpd_pg80")))
	d.WWN = wwnOf(firstOf(text(whole, "wwid"), text(whole, "device/wwid")), filepath.Join(whole, "device/vpd_pg83"))
	d.address(whole)
	if d.Model == "" || d.Serial == "" {
		known := udev(root, text(whole, "dev"))
		d.Model = firstOf(d.Model, strings.ReplaceAll(known["ID_MODEL"], "_", " "))
		d.Serial = firstOf(d.Serial, known["ID_SERIAL_SHORT"])
	}
	d.Bay = bay(root, whole, kernel)
}

// address finds the bus and the place on it in the path of the device among all devices.
func (d *Device) address(whole string) {
	at := strings.Split(whole, "/")
	pci := ""
	for _, part := range at {
		switch {
		case pciAddress.MatchString(part):
			pci = strings.TrimPrefix(part, "0000:")
		case usbAddress.MatchString(part):
			d.Bus, d.Address = "USB", "port "+part
		case ataPort.MatchString(part):
			d.Bus, d.Address = "SATA", "port "+strings.TrimPrefix(part, "ata")
		case part == "nvme":
			d.Bus, d.Address = "NVMe", "PCI "+pci
		case scsiAddress.MatchString(part) && d.Bus == "":
			d.Bus, d.Address = "SCSI", part
		}
	}
	if d.Bus == "" && strings.HasPrefix(filepath.Base(whole), "vd") {
		d.Bus, d.Address = "virtio", "PCI "+pci
	}
	d.Address = strings.TrimSuffix(d.Address, "PCI ")
}

var (
	pciAddress  = regexp.MustCompile(`^[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-7]$`)
	usbAddress  = regexp.MustCompile(`^\d+-\d+(\.\d+)*$`)
	ataPort     = regexp.MustCompile(`^ata\d+$`)
	scsiAddress = regexp.MustCompile(`^\d+:\d+:\d+:\d+$`)
)

// bay asks the enclosure that the disk is in: /sys/class/enclosure/ENCLOSURE/BAY/device is the disk. With more than one
// enclosure the bay's name says which.
func bay(root, whole, kernel string) string {
	all, _ := filepath.Glob(filepath.Join(root, "sys/class/enclosure/*/*/device/block", kernel))
	if len(all) == 0 {
		return ""
	}
	slot := filepath.Dir(filepath.Dir(filepath.Dir(all[0])))
	name := strings.Join(strings.Fields(filepath.Base(slot)), "-")
	if enclosures, _ := os.ReadDir(filepath.Join(root, "sys/class/enclosure")); len(enclosures) > 1 {
		name = filepath.Base(filepath.Dir(slot)) + "." + name
	}
	return name
}

// serialPage is the serial in page 0x80 of the vital product data: four bytes, of which the last two are its length.
func serialPage(path string) string {
	page, err := os.ReadFile(path)
	if err != nil || len(page) < 4 || page[1] != 0x80 {
		return ""
	}
	n := min(int(binary.BigEndian.Uint16(page[2:])), len(page)-4)
	return clean(page[4 : 4+n])
}

// wwnOf is the world-wide name as the kernel has it, or the first such name in page 0x83. A name made of the vendor, model and
// serial only is none: some disks have the same.
func wwnOf(told, page string) string {
	for _, kind := range []string{"naa.", "eui.", "uuid."} {
		if name, yes := strings.CutPrefix(told, kind); yes {
			return name
		}
	}
	raw, err := os.ReadFile(page)
	if err != nil || len(raw) < 4 || raw[1] != 0x83 {
		return ""
	}
	raw = raw[4:min(len(raw), 4+int(binary.BigEndian.Uint16(raw[2:])))]
	for len(raw) >= 4 && len(raw) >= 4+int(raw[3]) {
		// A name of the logical unit (association 0), in the form of type 3 (NAA) or 2 (EUI-64).
		if kind := raw[1] & 0x3f; kind == 3 || kind == 2 {
			return hex.EncodeToString(raw[4 : 4+int(raw[3])])
		}
		raw = raw[4+int(raw[3]):]
	}
	return ""
}

// udev is what udev found out about a device: lines of the form E:KEY=VALUE.
func udev(root, number string) map[string]string {
	out := map[string]string{}
	raw, err := os.ReadFile(filepath.Join(root, "run/udev/data/b"+number))
	if err != nil {
		return out
	}
	for _, line := range strings.Split(string(raw), "\n") {
		if line, yes := strings.CutPrefix(line, "E:"); yes {
			if key, value, ok := strings.Cut(line, "="); ok {
				out[key] = clean([]byte(value))
			}
		}
	}
	return out
}

func parts(dir string) (out []string) {
	type part struct {
		number int64
		name   string
	}
	var all []part
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if n := number(filepath.Join(dir, e.Name()), "partition"); n > 0 {
			all = append(all, part{n, e.Name()})
		}
	}
	slices.SortFunc(all, func(x, y part) int { return int(x.number - y.number) })
	for _, p := range all {
		out = append(out, p.name)
	}
	return out
}

func names(dir, of string) (out []string) {
	entries, _ := os.ReadDir(filepath.Join(dir, of))
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

func firstOf(all ...string) string {
	for _, s := range all {
		if s != "" {
			return s
		}
	}
	return ""
}

// text is an attribute: what a device says of itself is bounded, and without anything that is not printed.
func text(dir, name string) string {
	raw, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return ""
	}
	return clean(raw[:min(len(raw), 4096)])
}

func clean(raw []byte) string {
	raw = bytes.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == 0xfffd {
			return -1
		}
		return r
	}, raw)
	return strings.Join(strings.Fields(string(raw)), " ")
}

func number(dir, name string) int64 {
	n, err := strconv.ParseInt(text(dir, name), 10, 64)
	if err != nil || n < 0 {
		return 0
	}
	return n
}
