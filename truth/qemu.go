package truth

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// Firmware is a real firmware as Debian builds it.
type Firmware string

// The firmwares.
const (
	OVMF       Firmware = "OVMF"
	OVMFIA32   Firmware = "OVMF ia32"
	OVMFSecure Firmware = "OVMF with secure boot"
	SeaBIOS    Firmware = "SeaBIOS"
)

// UEFI reports whether the firmware is a UEFI one.
func (f Firmware) UEFI() bool { return f != SeaBIOS }

func (f Firmware) files() (code, vars string) {
	switch f {
	case OVMF:
		return "/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"
	case OVMFIA32:
		return "/usr/share/OVMF/OVMF32_CODE_4M.secboot.fd", "/usr/share/OVMF/OVMF32_VARS_4M.fd"
	case OVMFSecure:
		return "/usr/share/OVMF/OVMF_CODE_4M.ms.fd", "/usr/share/OVMF/OVMF_VARS_4M.ms.fd"
	}
	return "", ""
}

// Result is what a start in real firmware showed.
type Result struct {
	Mark   string // the marker's tag; "" when none was started
	Entry  string // the boot entry that led to it, four hexadecimal digits
	Serial string
	Ended  string // what ended the start: "mark", "gave up", "shown", "hung"
}

var markLine = regexp.MustCompile(`MARK (\S+) +entry=([0-9A-F]*)\r?\n`)

// gaveUp are the words at the end of a start that found nothing.
var gaveUp = []string{
	"UEFI Interactive Shell", "No bootable option or device was found", // edk2
	"No bootable device", // SeaBIOS
	"grub rescue>", "grub>",
}

// boot starts a machine and reads its serial port until a marker speaks, the
// firmware gives up, or the time is over.
func boot(dir string, args []string, limit time.Duration) (Result, error) {
	return bootUntil(dir, args, limit, readSerial)
}

// bootUntil starts a machine and reads its serial port until it has ended as look says.
func bootUntil(dir string, args []string, limit time.Duration, look func(serial string) Result) (Result, error) {
	serial := filepath.Join(dir, "serial")
	_ = os.Remove(serial) // of an earlier start: what it says would be taken for this one's
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, "qemu-system-x86_64", append(args, "-serial", "file:"+serial)...)
	var errs strings.Builder
	cmd.Stderr = &errs
	if err := cmd.Start(); err != nil {
		return Result{}, err
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	for {
		var exited bool
		select {
		case <-done:
			exited = true
		case <-time.After(50 * time.Millisecond):
		}
		raw, _ := os.ReadFile(serial)
		r := look(string(raw))
		switch {
		case r.Ended != "", exited:
			if !exited {
				cancel()
				<-done
			}
			if r.Ended == "" {
				r.Ended = "hung"
			}
			if r.Serial == "" && errs.Len() > 0 {
				return r, errors.New(errs.String())
			}
			return r, nil
		}
	}
}

func readSerial(serial string) Result {
	r := Result{Serial: serial}
	if m := markLine.FindStringSubmatch(r.Serial); m != nil {
		r.Mark, r.Entry, r.Ended = m[1], m[2], "mark"
		return r
	}
	for _, words := range gaveUp {
		if strings.Contains(r.Serial, words) {
			r.Ended = "gave up"
		}
	}
	return r
}

// arguments are QEMU's for a firmware and drives whose images lie in dir.
func arguments(f Firmware, dir string, drives []Drive, vars []byte) ([]string, error) {
	args := strings.Fields("-nodefaults -accel tcg -m 512 -nic none -display none -vga none -monitor none -no-reboot -device isa-debug-exit,iobase=0xf4,iosize=4")
	code, _ := f.files()
	switch f {
	case SeaBIOS:
		args = append(args, "-machine", "q35,graphics=off")
	case OVMF:
		args = append(args, "-machine", "q35")
	default:
		args = append(args, strings.Fields("-machine q35,smm=on -global driver=cfi.pflash01,property=secure,value=on -global ICH9-LPC.disable_s3=1")...)
	}
	if f.UEFI() {
		path := filepath.Join(dir, "vars.fd")
		if err := os.WriteFile(path, vars, 0o600); err != nil {
			return nil, err
		}
		args = append(args, "-drive", "if=pflash,unit=0,format=raw,readonly=on,file="+code, "-drive", "if=pflash,unit=1,format=raw,file="+path)
	}
	args = append(args, "-device", "qemu-xhci,id=xhci,addr=0x10")
	for i, d := range drives {
		if d.Detached {
			continue
		}
		args = append(args, "-drive", fmt.Sprintf("if=none,id=d%d,format=raw,cache=unsafe,file=%s", i, filepath.Join(dir, d.Name+".img")))
		args = append(args, d.devices(i)...)
	}
	return args, nil
}

// firstNVMe is the first NVMe drive's place on the PCI bus.
const firstNVMe = 4

// devices are the arguments that attach a drive: a port of its bus by its index,
// in the order of discovery.
func (d Drive) devices(i int) []string {
	index := ""
	if d.BootIndex > 0 {
		index = fmt.Sprintf(",bootindex=%d", d.BootIndex)
	}
	size := d.Disk.SectorSize
	if d.Presents != 0 {
		size = d.Presents
	}
	if size == 0 {
		size = 512
	}
	blocks := fmt.Sprintf(",logical_block_size=%d,physical_block_size=%d", size, size)
	switch d.Bus {
	case "nvme":
		return []string{"-device", fmt.Sprintf("nvme,id=n%d,serial=n%d,addr=%#x%s", i, i, firstNVMe+i, index), "-device", fmt.Sprintf("nvme-ns,bus=n%d,drive=d%d%s", i, i, blocks)}
	case "usb":
		return []string{"-device", fmt.Sprintf("usb-storage,bus=xhci.0,port=%d,drive=d%d%s%s", i+1, i, blocks, index)}
	case "scsi":
		return []string{"-device", fmt.Sprintf("virtio-scsi-pci,id=s%d,addr=%#x", i, 4+i), "-device",
			fmt.Sprintf("scsi-hd,bus=s%d.0,drive=d%d%s%s", i, i, blocks, index)}
	case "virtio":
		return []string{"-device", fmt.Sprintf("virtio-blk-pci,drive=d%d,addr=%#x%s%s", i, 4+i, blocks, index)}
	}
	return []string{"-device", fmt.Sprintf("ide-hd,drive=d%d,bus=ide.%d%s", i, i, index)}
}
