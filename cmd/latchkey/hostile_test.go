package main

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"math/rand/v2"
	"mime/multipart"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
	"latchkey/server/store/storetest"
)

// The tests' own program is the server, where a process of its own is looked at.
func TestMain(m *testing.M) {
	if os.Getenv("LATCHKEY_BE_THE_SERVER") != "" {
		os.Unsetenv("LATCHKEY_BE_THE_SERVER")
		main()
		return
	}
	os.Exit(storetest.Main(m))
}

// running is a server in a process of its own.
type running struct {
	t      testing.TB
	cmd    *exec.Cmd
	url    string
	cookie string
	out    string // where its log is
}

func (r *running) log() string {
	raw, err := os.ReadFile(r.out)
	require.NoError(r.t, err)
	return string(raw)
}

// startServer starts the server on a database of its own, and signs its lead in by the
// key that it prints.
func startServer(t testing.TB, dsn string, args ...string) *running {
	t.Helper()
	return startServerBy(t, http.DefaultClient, dsn, args...)
}

func startServerBy(t testing.TB, client *http.Client, dsn string, args ...string) *running {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, append([]string{"serve", "--listen", "127.0.0.1:0"}, args...)...)
	cmd.Env = append(os.Environ(), "LATCHKEY_BE_THE_SERVER=1", "LATCHKEY_DATABASE="+dsn, "GOGC=", "GOMEMLIMIT=")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	log, err := os.Create(filepath.Join(t.TempDir(), "log"))
	require.NoError(t, err)
	cmd.Stderr = log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		log.Close()
		if raw, err := os.ReadFile(log.Name()); err == nil && t.Failed() {
			if at := bytes.Index(raw, []byte("\nfatal error")); at >= 0 {
				raw = raw[at:]
			}
			t.Logf("the server's log: %.3000s", raw)
		}
	})
	r := &running{t: t, cmd: cmd, out: log.Name()}
	lines := bufio.NewReader(out)
	line, err := lines.ReadString('\n')
	require.NoError(t, err)
	go func() { _, _ = io.Copy(io.Discard, lines) }()
	at := regexp.MustCompile(`(https?://\S+)/#key=(\S+)`).FindStringSubmatch(line)
	require.Len(t, at, 3, line)
	r.url = at[1]
	res, err := client.Post(r.url+"/api/v1/session", "application/json", strings.NewReader(`{"key":"`+at[2]+`"}`))
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	r.cookie, _, _ = strings.Cut(res.Header.Get("Set-Cookie"), ";")
	return r
}

func (r *running) do(client *http.Client, method, path, version, kind string, body io.Reader) (int, []byte, error) {
	req, err := http.NewRequest(method, r.url+"/api/v1"+path, body)
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Cookie", r.cookie)
	req.Header.Set("If-Match", version)
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	res, err := client.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	return res.StatusCode, raw, err
}

func (r *running) newCase(client *http.Client) (id uint64, err error) {
	_, raw, err := r.do(client, http.MethodPost, "/cases", "", "application/json", strings.NewReader(`{"title":"x"}`))
	var made struct{ ID uint64 }
	if err == nil {
		err = json.Unmarshal(raw, &made)
	}
	return made.ID, err
}

// status is a figure of the process in kibibytes: proc(5).
func (r *running) status(name string) int {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", r.cmd.Process.Pid))
	require.NoError(r.t, err)
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, name+":"); ok {
			n, err := strconv.Atoi(strings.Fields(rest)[0])
			require.NoError(r.t, err)
			return n
		}
	}
	r.t.Fatal("no " + name)
	return 0
}

func form(files map[string][]byte, fields map[string]string) (string, *bytes.Buffer) {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for name, content := range files {
		part, _ := w.CreateFormFile(name, "paste")
		_, _ = part.Write(content)
	}
	for name, value := range fields {
		_ = w.WriteField(name, value)
	}
	_ = w.Close()
	return w.FormDataContentType(), &b
}

// zipped is a capture file of a manifest and sectors.
func zipped(manifest capture.Manifest, sectors []byte, variables map[string][]byte) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	raw, _ := json.Marshal(manifest)
	members := map[string][]byte{"manifest.json": raw, "sectors.bin": sectors}
	for name, value := range variables {
		members["efivars/"+name] = value
	}
	for name, content := range members {
		w, _ := z.Create(name)
		_, _ = w.Write(content)
	}
	_ = z.Close()
	return b.Bytes()
}

// crowded is the beginning of a disk whose table has 8,192 partitions, all of them the
// same FAT volume with a crowded folder.
func crowded() []byte {
	d := diskmaker.Disk{Sectors: 1 << 17, Style: diskmaker.GPT}
	files := map[string][]byte{}
	for i := range 60 {
		files[fmt.Sprintf(`\EFI\v%02d\grubx64.efi`, i)] = diskmaker.Program{}.Bytes()
		files[fmt.Sprintf(`\EFI\v%02d\grub.cfg`, i)] = bytes.Repeat([]byte("menuentry 'x' { linux /vmlinuz root=UUID=1 }\n"), 4000)
	}
	d.Partitions = []diskmaker.Partition{{Type: disk.TypeESP, Start: 8192, MiB: 50,
		Volume: diskmaker.Volume{Kind: "fat32", Files: files}}}
	m := d.MustBuild()
	raw := make([]byte, m.Size)
	_, _ = m.ReadAt(raw, 0)
	le := binary.LittleEndian
	entry := bytes.Clone(raw[1024:1152])
	for i := range 1792 { // as many as fit before the volume
		copy(raw[1024+128*i:], entry)
		raw[1024+128*i+16], raw[1024+128*i+17] = byte(i), byte(i>>8)
	}
	le.PutUint32(raw[512+80:], 1792)
	le.PutUint32(raw[512+88:], crc(raw[1024:1024+128*1792]))
	clear(raw[512+16 : 512+20])
	le.PutUint32(raw[512+16:], crc(raw[512:512+92]))
	return raw
}

// hostileListings are texts of eight mebibytes.
func hostileListings() map[string][]byte {
	const size = 8<<20 - 1000
	filled := func(head, unit string) []byte {
		return []byte(head + strings.Repeat(unit, (size-len(head))/len(unit)))
	}
	return map[string][]byte{
		"nested lists":      filled(`{"blockdevices": `, "["),
		"many devices":      filled(`{"blockdevices": [`, `{"name":"a","size":1,"children":[]},`),
		"nested property":   filled("<?xml version=\"1.0\"?><plist>", "<array>"),
		"many properties":   filled("<?xml version=\"1.0\"?><plist><dict>", "<key>a</key><dict><key>Size</key><integer>1</integer></dict>"),
		"an entity":         filled("<?xml version=\"1.0\"?><!DOCTYPE plist [<!ENTITY a \"aaaaaaaaaa\">]><plist>", "<string>&a;</string>"),
		"old property list": filled("<plist> (", "("),
		"blkid":             filled("", "/dev/sda1: UUID=\"1\" TYPE=\"ext4\"\n"),
		"dump":              filled("label: gpt\n", "/dev/sda1 : start=1, size=1, type=1\n"),
		"short lines":       filled("label: gpt\n", "a\n"),
		"diskpart":          filled("  Disk ###  Status         Size     Free     Dyn  Gpt\n", "  Disk 0    Online          465 GB      0 B        *\n"),
		"store":             filled("Windows Boot Manager\n--------------------\n", "identifier              {9dea862c-5cdd-4e70-acc1-f32b344d4795}\n"),
		"one line":          filled("label: ", "a"),
		"entries":           filled("BootOrder: 0001\n", "Boot0001* x\tHD(1,GPT,7e21b6d0-4c1a-4f0b-9a55-3c5a19e00072,0x800,0x32000)/File(\\a.efi)\n"),
		"wide":              append([]byte{0xFF, 0xFE}, bytes.Repeat([]byte{'a', 0, '\n', 0}, size/4)...),
	}
}

// hostilePieces are evidence in bytes.
func hostilePieces() map[string][]byte {
	scattered := capture.Manifest{Format: "latchkey capture", Version: 1, Capacity: 1 << 50, LogicalSectorSize: 512}
	for i := range int64(90_000) {
		scattered.Extents = append(scattered.Extents, capture.Extent{Offset: i << 33, Length: 512})
	}
	random := make([]byte, 48<<20)
	r := rand.New(rand.NewPCG(1, 2))
	for i := 0; i < len(random); i += 8 {
		binary.LittleEndian.PutUint64(random[i:], r.Uint64())
	}
	random[510], random[511] = 0x55, 0xAA
	variables := map[string][]byte{}
	for i := range 900 {
		variables[fmt.Sprintf("Boot%04X-8be4df61-93ca-11d2-aa0d-00e098032b8c", i)] = random[i*1000 : i*1000+1000]
	}
	whole := capture.Manifest{Format: "latchkey capture", Version: 1, Capacity: 64 << 20, LogicalSectorSize: 512,
		Extents: []capture.Extent{{Offset: 0, Length: 64 << 20}}}
	claims := whole
	claims.Capacity = 1<<63 - 1
	return map[string][]byte{
		"zeros":     zipped(whole, make([]byte, 64<<20), nil),
		"scattered": zipped(scattered, random[:90_000*512], nil),
		"variables": zipped(whole, make([]byte, 64<<20), variables),
		"claims":    zipped(claims, make([]byte, 64<<20), nil),
		"random":    random,
		"crowded":   crowded(),
	}
}

func pick(random *rand.Rand, from map[string][]byte) string {
	names := slices.Sorted(maps.Keys(from))
	return names[random.IntN(len(names))]
}

// Sixteen clients send for a while what is made to eat memory, and ask for what follows
// from it: the server stays within its bound, tells its health within a second, nearly always, and
// answers every request. Once they are gone it takes evidence as before.
func TestHostileClients(t *testing.T) {
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	t.Parallel()
	r := startServer(t, storetest.Address(t))
	pieces, listings := hostilePieces(), hostileListings()
	ctx, cancel := context.WithTimeout(t.Context(), 25*time.Second)
	defer cancel()
	client := &http.Client{Timeout: 120 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 32}}
	var answered, unhealthy atomic.Int64
	statuses := map[int]int{}
	var mu sync.Mutex
	send := func(method, path, version, kind string, body io.Reader) {
		if ctx.Err() != nil {
			return
		}
		status, _, err := r.do(client, method, path, version, kind, body)
		if !assert.NoError(t, err, "%s %s", method, path) {
			return
		}
		answered.Add(1)
		mu.Lock()
		statuses[status]++
		mu.Unlock()
	}
	var wg sync.WaitGroup
	for n := range 16 {
		wg.Go(func() {
			random := rand.New(rand.NewPCG(uint64(n), 3))
			for ctx.Err() == nil {
				id, err := r.newCase(client)
				if !assert.NoError(t, err) {
					return
				}
				at := fmt.Sprintf("/cases/%d", id)
				kind, body := form(map[string][]byte{"file": pieces[pick(random, pieces)]}, nil)
				send(http.MethodPost, at+"/drives/clone/evidence", `"1"`, kind, body)
				for _, what := range []string{"/check", "/plan", "/references", "/drives/clone/bytes"} {
					send(http.MethodGet, at+what, "", "", nil)
				}
				kind, body = form(map[string][]byte{"file": listings[pick(random, listings)]}, nil)
				send(http.MethodPost, at+"/listings/reading", "", kind, body)
				send(http.MethodPost, "/session", "", "application/json", strings.NewReader(`{"name":"nobody","password":"x"}`))
				send(http.MethodPut, at, `"9"`, "application/json", strings.NewReader(`{"title":"`+strings.Repeat("x", 250<<10)+`"}`))
			}
		})
	}
	peak, asked := 0, int64(0)
	for ; ctx.Err() == nil; asked++ {
		began := time.Now()
		status, _, err := r.do(client, http.MethodGet, "/health", "", "", nil)
		if err != nil || status != http.StatusOK || time.Since(began) > time.Second {
			unhealthy.Add(1)
		}
		peak = max(peak, r.status("VmRSS"))
		time.Sleep(100 * time.Millisecond)
	}
	wg.Wait()
	t.Logf("%d requests answered: %v; resident at most %d MiB (%d MiB by the system's own mark), health late or wrong %d times of %d",
		answered.Load(), statuses, peak>>10, r.status("VmHWM")>>10, unhealthy.Load(), asked)
	assert.Less(t, r.status("VmHWM")>>10, 256)
	assert.LessOrEqual(t, unhealthy.Load(), max(2, asked/5), "the machine itself may be busy")
	assert.Positive(t, statuses[http.StatusOK])
	assert.Zero(t, statuses[http.StatusInternalServerError])

	id, err := r.newCase(client)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		kind, body := form(map[string][]byte{"file": pieces["zeros"]}, nil)
		status, answer, err := r.do(client, http.MethodPost, fmt.Sprintf("/cases/%d/drives/clone/evidence", id), `"1"`, kind, body)
		t.Logf("behind them: %d %.200s", status, answer)
		return err == nil && status == http.StatusCreated
	}, 2*time.Minute, time.Second)
}

// A client that stalls is let go; a slow one that goes on gets through.
func TestStalledAndSlowUploads(t *testing.T) {
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	t.Parallel()
	r := startServer(t, storetest.Address(t))
	client := &http.Client{Timeout: 2 * time.Minute}
	id, err := r.newCase(client)
	require.NoError(t, err)
	kind, body := form(map[string][]byte{"file": bytes.Repeat([]byte("label: gpt\n"), 40_000)}, nil)
	request := func() net.Conn {
		conn, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
		require.NoError(t, err)
		fmt.Fprintf(conn, "POST /api/v1/cases/%d/listings/reading HTTP/1.1\r\nHost: 127.0.0.1\r\nCookie: %s\r\nContent-Type: %s\r\nContent-Length: %d\r\n\r\n", id, r.cookie, kind, body.Len())
		return conn
	}
	var wg sync.WaitGroup
	wg.Go(func() { // stalls after its first bytes
		conn := request()
		defer conn.Close()
		_, _ = conn.Write(body.Bytes()[:1000])
		began := time.Now()
		_ = conn.SetReadDeadline(time.Now().Add(time.Minute))
		_, err := io.Copy(io.Discard, conn)
		assert.NoError(t, err, "the server closes the connection by itself")
		assert.Less(t, time.Since(began), 40*time.Second)
	})
	wg.Go(func() { // goes on at 16 KiB a second, for longer than a stalled one has
		conn := request()
		defer conn.Close()
		for rest := body.Bytes(); len(rest) > 0; {
			n := min(16<<10, len(rest))
			_, err := conn.Write(rest[:n])
			if !assert.NoError(t, err) {
				return
			}
			rest = rest[n:]
			time.Sleep(time.Second)
		}
		_ = conn.SetReadDeadline(time.Now().Add(time.Minute))
		res, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if assert.NoError(t, err) {
			defer res.Body.Close()
			assert.Equal(t, http.StatusOK, res.StatusCode)
		}
	})
	wg.Wait()
}

func crc(b []byte) uint32 { return crc32.ChecksumIEEE(b) }
