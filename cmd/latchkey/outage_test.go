package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/server/store/storetest"
)

// The database is killed, frozen and started again while eight people make cases and
// change them: nothing that was acknowledged is lost, nothing that was said not to have
// happened has happened, and every request ends.
func TestOutagesOfTheDatabase(t *testing.T) {
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	t.Parallel()
	database := storetest.NewServer(t)
	r := startServer(t, database.Start())
	client := &http.Client{Timeout: time.Minute}
	var mu sync.Mutex
	acknowledged, denied, unsure := map[string]bool{}, map[string]bool{}, 0
	over := make(chan struct{})
	var writers sync.WaitGroup
	for w := range 8 {
		writers.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-over:
					return
				default:
				}
				title := fmt.Sprintf("writer %d, case %d", w, n)
				status, raw, err := r.do(client, http.MethodPost, "/cases", "", "application/json", strings.NewReader(`{"title":"`+title+`"}`))
				mu.Lock()
				switch {
				case err == nil && status == http.StatusCreated:
					acknowledged[title] = true
				case err == nil && strings.Contains(string(raw), "Nothing was changed"):
					denied[title] = true
				case err == nil && status == http.StatusServiceUnavailable:
					unsure++
				default:
					t.Errorf("%s: %d %s %v", title, status, raw, err)
				}
				mu.Unlock()
				time.Sleep(10 * time.Millisecond)
			}
		})
	}
	signal := func(s syscall.Signal) { require.NoError(t, database.Process().Signal(s)) }
	for range 3 {
		time.Sleep(1500 * time.Millisecond)
		signal(syscall.SIGKILL)
		time.Sleep(500 * time.Millisecond)
		database.Start()
	}
	time.Sleep(time.Second)
	signal(syscall.SIGSTOP)
	time.Sleep(4 * time.Second)
	signal(syscall.SIGCONT)
	time.Sleep(time.Second)
	database.Stop()
	database.Start()
	time.Sleep(2 * time.Second)
	close(over)
	writers.Wait()

	there := map[string]bool{}
	for next := ""; ; {
		status, raw, err := r.do(client, http.MethodGet, "/cases?limit=100&cursor="+next, "", "", nil)
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, status, string(raw))
		var page struct {
			Cases []struct{ Title string }
			Next  string
		}
		require.NoError(t, json.Unmarshal(raw, &page))
		for _, c := range page.Cases {
			there[c.Title] = true
		}
		if next = page.Next; next == "" {
			break
		}
	}
	lost, made := 0, 0
	for title := range acknowledged {
		if !there[title] {
			lost++
		}
	}
	for title := range denied {
		if there[title] {
			made++
		}
	}
	t.Logf("%d acknowledged, %d lost; %d said not to have been made, %d of them made; %d said to be uncertain", len(acknowledged), lost, len(denied), made, unsure)
	assert.Zero(t, lost)
	assert.Zero(t, made)
	assert.Greater(t, len(acknowledged), 10, "few on a machine that is busy with other things")
	assert.NotEmpty(t, denied)
}
