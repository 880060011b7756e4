// Command latchkey-stick is the one program that the stick runs: it finds the stick's own
// partition, and leads through a session in the terminal.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"

	"github.com/gdamore/tcell/v2"
	// The terminals of a console and of a serial line.
	_ "github.com/gdamore/tcell/v2/terminfo/l/linux"
	_ "github.com/gdamore/tcell/v2/terminfo/v/vt100"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/stick"
	"latchkey/stick/screen"
)

func main() {
	if err := lead(); err != nil {
		fmt.Fprintln(os.Stderr, "latchkey:", err)
		os.Exit(1)
	}
}

// mountedAt is where the stick is mounted.
const mountedAt = "/stick"

// settle is how long drives may take to appear.
const settle = 30 * time.Second

func lead() error {
	raw, err := os.ReadFile("/proc/cmdline")
	if err != nil {
		return err
	}
	want, err := disk.ParseGUID(word(string(raw), "latchkey.stick"))
	if err != nil {
		return fmt.Errorf("latchkey.stick= of the kernel line: %w", err)
	}
	own, partition, err := find(want)
	if err != nil {
		return err
	}
	time.Sleep(2 * time.Second) // other drives appear about as late as the stick
	if err := os.MkdirAll(mountedAt, 0o755); err != nil {
		return err
	}
	// Whatever is said to be written is: a stick is pulled out without a word.
	if err := syscall.Mount(partition, mountedAt, "vfat", syscall.MS_SYNCHRONOUS|syscall.MS_NOATIME, "utf8"); err != nil {
		return fmt.Errorf("the stick's partition %s: %w", partition, err)
	}
	session, err := stick.Begin(mountedAt, stick.ReadSystem("/"), time.Now)
	if err != nil {
		return fmt.Errorf("the stick takes no folder: %w", err)
	}
	on, err := tcell.NewScreen()
	if err != nil {
		return err
	}
	if err := on.Init(); err != nil {
		return err
	}
	defer on.Fini()
	return screen.Run(context.Background(), on, session, mountedAt, own)
}

// word is the value of a word of the kernel's line.
func word(line, name string) string {
	for f := range strings.FieldsSeq(line) {
		if value, ok := strings.CutPrefix(f, name+"="); ok {
			return value
		}
	}
	return ""
}

// find waits for the partition that the stick was started from.
func find(want disk.GUID) (own, partition string, err error) {
	for until := time.Now().Add(settle); time.Now().Before(until); time.Sleep(500 * time.Millisecond) {
		found, err := capture.Disks()
		if err != nil {
			return "", "", err
		}
		for _, f := range found {
			if number := numberOn(f.Path, want); number > 0 {
				between := ""
				if last := f.Path[len(f.Path)-1]; last >= '0' && last <= '9' {
					between = "p"
				}
				return f.Path, fmt.Sprintf("%s%s%d", f.Path, between, number), nil
			}
		}
	}
	return "", "", errors.New("the stick that was started is not among the drives that the kernel lists")
}

// numberOn is the number of a partition on a disk; 0 where it has none such.
func numberOn(path string, want disk.GUID) int {
	d, err := capture.OpenDevice(path)
	if err != nil {
		return 0
	}
	defer d.Close()
	on, err := disk.New(d, d.Size, d.SectorSizeOr(512))
	if err != nil {
		return 0
	}
	for _, p := range disk.ReadLayout(on).Partitions {
		if p.GUID == want {
			return p.Number
		}
	}
	return 0
}
