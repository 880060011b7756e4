package truth

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"latchkey/core/firmware"
)

// Firmware is a real firmware as Debian builds it.
type Firmware string

// The firmwares.
const (
	OVMF       Firmware = "OVMF"
	OVMFIA32   Firmware = "OVMF ia32"
	OVMFSecure Firmware = "OVMF with secure boot"
	SeaBIOS    Firmware = "SeaBIOS"
	// The edk2 for arm64, on QEMU's machine "virt".
	AAVMF       Firmware = "AAVMF"
	AAVMFSecure Firmware = "AAVMF with secure boot"
)

// firmwares are all of them, in the order in which the page tells of them.
var firmwares = []Firmware{OVMF, OVMFIA32, OVMFSecure, AAVMF, AAVMFSecure, SeaBIOS}

// UEFI reports whether the firmware is a UEFI one.
func (f Firmware) UEFI() bool { return f != SeaBIOS }

// arch is what the machines of a firmware run.
func (f Firmware) arch() firmware.Arch {
	switch f {
	case OVMFIA32:
		return firmware.IA32
	case AAVMF, AAVMFSecure:
		return firmware.ARM64
	}
	return firmware.X64
}

// secure reports whether a firmware holds the usual keys, and starts only what they let.
func (f Firmware) secure() bool { return f == OVMFSecure || f == AAVMFSecure }

func (f Firmware) files() (code, vars string) {
	switch f {
	case OVMF:
		return "/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"
	case OVMFIA32:
		return "/usr/share/OVMF/OVMF32_CODE_4M.secboot.fd", "/usr/share/OVMF/OVMF32_VARS_4M.fd"
	case OVMFSecure:
		return "/usr/share/OVMF/OVMF_CODE_4M.ms.fd", "/usr/share/OVMF/OVMF_VARS_4M.ms.fd"
	case AAVMF, AAVMFSecure:
		return "/usr/share/AAVMF/AAVMF_CODE.ms.fd", "/usr/share/AAVMF/AAVMF_VARS.ms.fd"
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

// window is how much of what was already read a look at the serial port sees again, bytes: longer than
// whatever is looked for.
const window = 4 << 10

// noTimer is what a kernel says where the emulator's timer, on a busy machine, does not tick when it looks: it tells
// nothing of the disk.
const noTimer = "IO-APIC + timer doesn't work"

// bootUntil starts a machine and reads its serial port until it has ended as look says; a few times where the
// emulator's timer fails.
func bootUntil(dir string, args []string, limit time.Duration, look func(serial string) Result) (r Result, err error) {
	for range 4 {
		if r, err = bootOnce(dir, args, limit, look); err != nil || !strings.Contains(r.Serial, noTimer) {
			break
		}
	}
	return r, err
}

// bootOnce shows look what is new, and a window before it: a machine that waits for minutes is not read from the
// beginning each time.
func bootOnce(dir string, args []string, limit time.Duration, look func(serial string) Result) (Result, error) {
	serial, err := os.Create(filepath.Join(dir, "serial")) // without what an earlier start said
	if err != nil {
		return Result{}, err
	}
	defer serial.Close()
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	cmd := command(ctx, append(args, "-serial", "file:"+serial.Name()))
	var errs strings.Builder
	cmd.Stderr = &errs
	if err := cmd.Start(); err != nil {
		return Result{}, err
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	var read []byte
	for {
		var exited bool
		select {
		case <-done:
			exited = true
		case <-time.After(50 * time.Millisecond):
		}
		seen := max(0, len(read)-window)
		more, _ := io.ReadAll(serial)
		read = append(read, more...)
		r := look(string(read[seen:]))
		switch {
		case r.Ended != "", exited:
			if !exited {
				cancel()
				<-done
			}
			if r.Ended == "" {
				r.Ended = "hung"
			}
			r.Serial = string(read)
			if r.Serial == "" && errs.Len() > 0 {
				return r, errors.New(errs.String())
			}
			return r, nil
		}
	}
}

// command is QEMU with its arguments, the first of which says for which machines.
func command(ctx context.Context, args []string) *exec.Cmd {
	return exec.CommandContext(ctx, args[0], args[1:]...)
}

func readSerial(serial string) (r Result) {
	if m := markLine.FindStringSubmatch(serial); m != nil {
		return Result{Mark: m[1], Entry: m[2], Ended: "mark"}
	}
	for _, words := range gaveUp {
		if strings.Contains(serial, words) {
			r.Ended = "gave up"
		}
	}
	return r
}

// arguments are QEMU's, and its own name before them, for a firmware and drives whose images lie
// in dir.
func arguments(f Firmware, dir string, drives []Drive, vars []byte) ([]string, error) {
	args := strings.Fields(f.machine() + " -nodefaults -accel tcg -m 512 -nic none -display none -monitor none -no-reboot")
	code, _ := f.files()
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

// machine is QEMU for a firmware's machines, and what kind of machine it is.
func (f Firmware) machine() string {
	const x64 = "qemu-system-x86_64 -vga none -device isa-debug-exit,iobase=0xf4,iosize=4 -machine q35"
	switch f {
	case AAVMF, AAVMFSecure:
		return "qemu-system-aarch64 -machine virt -cpu cortex-a57"
	case SeaBIOS:
		return x64 + ",graphics=off"
	case OVMF:
		return x64
	}
	return x64 + ",smm=on -global driver=cfi.pflash01,property=secure,value=on -global ICH9-LPC.disable_s3=1"
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
