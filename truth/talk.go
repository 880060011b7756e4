package truth

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"latchkey/internal/terminal"
	"regexp"
	"strings"
	"sync"
	"time"
)

// talk is a machine on whose serial line somebody types.
type talk struct {
	mu       sync.Mutex
	terminal *terminal.Terminal
	raw      bytes.Buffer
	in       io.WriteCloser
	ended    chan error
	shown    []string
	first    string // the role of the drive that the firmware tries first; "" where that is not said
}

func (t *talk) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.raw.Write(p)
	return t.terminal.Write(p)
}

func (t *talk) screen() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.terminal.String()
}

// wait waits until one of some words is shown, and returns it.
func (t *talk) wait(limit time.Duration, words ...string) (string, error) {
	until := time.Now().Add(limit)
	for time.Now().Before(until) {
		now := t.screen()
		for _, w := range words {
			if strings.Contains(now, w) {
				t.drawn()
				t.shown = append(t.shown, t.screen())
				return w, nil
			}
		}
		select {
		case err := <-t.ended:
			return "", fmt.Errorf("the machine ended (%v) before %q was shown:\n%s", err, words, t.screen())
		case <-time.After(100 * time.Millisecond):
		}
	}
	return "", fmt.Errorf("%q was not shown:\n%s", words, t.screen())
}

// drawn waits until the screen stays as it is: it is drawn to its end.
func (t *talk) drawn() {
	for range 20 {
		before := t.screen()
		time.Sleep(700 * time.Millisecond)
		if t.screen() == before {
			return
		}
	}
}

func (t *talk) send(keys string) { _, _ = io.WriteString(t.in, keys) }

const (
	keyEnter = "\r"
)

// start starts QEMU with its serial line as a conversation.
func start(ctx context.Context, args []string) (*talk, error) {
	t := &talk{terminal: terminal.New(), ended: make(chan error, 1)}
	cmd := command(ctx, append(args, "-serial", "stdio"))
	cmd.Stdout = t
	var errs strings.Builder
	cmd.Stderr = &errs
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	t.in = in
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		err := cmd.Wait()
		if errs.Len() > 0 {
			err = errors.Join(err, errors.New(errs.String()))
		}
		t.ended <- err
		close(t.ended) // for all who wait for it
	}()
	return t, nil
}

// choose takes an option by its number.
func (t *talk) choose(label string) error {
	m := regexp.MustCompile(`(\d) ` + label).FindStringSubmatch(t.screen())
	if m == nil {
		return fmt.Errorf("%q cannot be chosen:\n%s", label, t.screen())
	}
	t.send(m[1])
	return nil
}

// answer says yes to what is asked, as far as it is asked first, and which drive the firmware tries
// first, as it is, and waits for what comes of it: a key that is pressed too early would be taken by the next page.
func (t *talk) answer() error {
	for range 4 {
		before := t.screen()
		asksFirst := t.first != "" && strings.Contains(before, " 1 the clone") && strings.Contains(before, " 2 the original")
		if !asksFirst && !strings.Contains(before, "1 Yes") {
			return nil
		}
		t.shown = append(t.shown, before)
		if asksFirst && t.first == "original" || strings.Contains(before, "driver for USB") || // the small Linux has none
			strings.Contains(before, "an initial RAM disk built in") { // as Debian's kernels have
			t.send("2")
		} else {
			t.send(keyEnter)
		}
		for range 120 {
			if now := t.screen(); now != before && strings.Contains(now, "The start, without the stick") &&
				strings.Contains(now, "Enter takes") {
				break
			}
			time.Sleep(500 * time.Millisecond)
		}
		time.Sleep(time.Second) // it is drawn to its end
	}
	return errors.New("it asks on and on:\n" + t.screen())
}
