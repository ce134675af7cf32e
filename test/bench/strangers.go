package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"urgentis/internal/service"
)

// strangersLimit is how much memory a thousand strangers at every door may take.
const (
	strangers      = 1000
	strangersLimit = 300 << 20
	holdFor        = 10 * time.Second
)

// door is where strangers send something, how it begins, and how large it is.
type door struct {
	Address, Begin string
	Size           int
}

// strangers measures the memory that a service holds beyond what it held before, while at each of its doors a thousand
// who prove nothing hold back the end of what they send. They are a process of their own.
func (b *bench) strangers() error {
	i, err := service.Start(b.ctx, service.Config{Database: b.db.URL, DataDir: filepath.Join(b.dir, "strangers"),
		KeyFile: filepath.Join(b.dir, "seal.key"), // the database may know it already
		Listen:  "127.0.0.1:0", Version: "bench", Log: slog.New(slog.DiscardHandler),
		Hear: service.Hear{SyslogTCP: "127.0.0.1:0", Mail: "127.0.0.1:0"}})
	if err != nil {
		return err
	}
	go i.Serve(b.ctx)       //nolint:errcheck // it ends with the bench
	defer i.Stop()          //nolint:errcheck // the data go away
	time.Sleep(time.Second) // until it listens
	at, heard := strings.TrimPrefix(i.Link, "http://"), i.Heard()
	post := func(path string, size int) string {
		return fmt.Sprintf("POST %s HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"+
			"Content-Length: %d\r\n\r\n", path, size)
	}
	doors := []door{
		{at, post("/in/mon", 1<<20), 1<<20 - 1},
		{at, post("/api/v1/push", 16<<20), 16<<20 - 1},
		{at, post("/api/v1/session", 1<<20), 1<<20 - 1},
		{at, post("/start/none", 1<<20), 1<<20 - 1},
		{at, post("/back/none", 1<<20), 1<<20 - 1},
		{heard["syslog-tcp"], "", 64 << 10},
		{heard["mail"], "EHLO x\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<nobody@x.example>\r\nDATA\r\n", 1 << 20},
	}
	debug.FreeOSMemory()
	quiet := make(chan struct{})
	close(quiet)
	before := peakMemory(quiet)
	stop, peak := make(chan struct{}), make(chan uint64)
	go func() { peak <- peakMemory(stop) }()
	asked, err := json.Marshal(doors)
	if err != nil {
		return err
	}
	them := exec.Command(os.Args[0], "-hold", string(asked)) //nolint:gosec // it is this program
	said, err := them.Output()
	close(stop)
	took := max(<-peak, before) - before
	if err != nil {
		return fmt.Errorf("the strangers: %w", err)
	}
	b.rows = append(b.rows, figure{
		fmt.Sprintf("memory for %d strangers at each of %d doors who hold back what they send (%s MB left them)",
			strangers, len(doors), bytes.TrimSpace(said)),
		fmt.Sprintf("%d MB", took>>20), fmt.Sprintf("%d MB", strangersLimit>>20), verdict(took < strangersLimit),
	})
	return nil
}

// holdAll has a thousand strangers at each door, and prints how many megabytes left them.
func holdAll(asked string) error {
	var doors []door
	if err := json.Unmarshal([]byte(asked), &doors); err != nil {
		return err
	}
	var all sync.WaitGroup
	var left atomic.Int64
	filler := make([]byte, 64<<10)
	for _, d := range doors {
		for range strangers {
			all.Go(func() { left.Add(hold(d.Address, d.Begin, d.Size, filler)) })
		}
	}
	all.Wait()
	fmt.Println(left.Load() >> 20)
	return nil
}

// hold sends the beginning of something, and all of it but its end, and waits. It gives how many bytes left.
func hold(address, begin string, size int, filler []byte) (sent int64) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return 0
	}
	defer c.Close()
	if err := c.SetDeadline(time.Now().Add(holdFor)); err != nil {
		return 0
	}
	if _, err := c.Write([]byte(begin)); err != nil {
		return 0
	}
	for left := size; left > 0; {
		n, err := c.Write(filler[:min(left, len(filler))])
		left, sent = left-n, sent+int64(n)
		if err != nil {
			return sent
		}
	}
	r := bufio.NewReaderSize(c, 16)
	for err == nil {
		_, err = r.ReadByte() // until the deadline, or an answer that ends it
	}
	return sent
}
