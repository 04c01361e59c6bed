// Command killing kills the service and its database (signal 9) at random moments, again and again, while they sweep a simulated
// building. After each kill the next start has to succeed, and everything that was told of before has to be there. It ends with
// a failure at the first that does not hold, and leaves the data directory behind to be looked at.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service"
	"airdrift/service/servicetest"
	"airdrift/simsite/simsitetest"
)

// serve names the data directory on which this program is to run the service that will be killed.
const serve = "AIRDRIFT_KILLING_SERVE"

const (
	startWait = 2 * time.Minute // for a start, the repair of the database included
	ranges    = "10.40.1.0/25"
	// lateKill is how long after its start a service is killed at the latest.
	lateKill = 4 * time.Second
	// soonKill is the same for who works on the ledger, which takes a moment.
	soonKill = 400 * time.Millisecond
)

func main() {
	if dir := os.Getenv(serve); dir != "" {
		beKilled(dir)
	}
	limit := flag.Duration("for", time.Minute, "how long to go on")
	kills := flag.Int("kills", 1_000_000, "how many kills at the most")
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "of the moments and of what is killed")
	flag.Parse()
	if err := run(*limit, *kills, *seed); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// beKilled runs the service on the simulated building until it is killed.
func beKilled(dir string) {
	wire, err := servicetest.Building()
	if err == nil {
		_, err = service.Run(context.Background(), service.InstanceConfig{Data: dir, Listen: "127.0.0.1:0", Vantages: service.FixedVantages{wire}})
	}
	if err != nil {
		fmt.Println("failed:", err)
		os.Exit(1)
	}
	fmt.Println("ready")
	select {}
}

func run(limit time.Duration, kills int, seed uint64) error {
	dir, err := os.MkdirTemp("", "airdrift-killing-")
	if err != nil {
		return err
	}
	if err := os.Chmod(dir, 0o711); err != nil { // the database's user must pass through
		return err
	}
	k := &killing{
		dir: dir, cl: client.Local(dir), random: rand.New(rand.NewPCG(seed, 9)), told: map[uint64]map[string]bool{}, counts: map[string]int{},
	}
	fmt.Printf("Killing for %s at most, seed %d, in %s\n", limit, seed, dir)
	ctx, stop := context.WithTimeout(context.Background(), limit)
	defer stop()
	err = k.goOn(ctx, kills)
	if ended := k.end(); err == nil {
		err = ended
	}
	if err != nil {
		return fmt.Errorf("after %v: %w (seed %d; the data is in %s)", k.counts, err, seed, dir)
	}
	fmt.Printf("%d starts, all of which succeeded; killed: %v; %d sightings told, none lost.\n", k.starts, k.counts, k.tellings())
	return os.RemoveAll(dir)
}

// killing is a service that is killed again and again.
type killing struct {
	dir    string
	cl     *client.Client
	random *rand.Rand
	site   api.Site
	starts int
	counts map[string]int // kills, by what was killed
	seen   int            // sightings that were told and are not looked at any more

	service *exec.Cmd

	holds    func() error // what must hold of the ledger after the next start; nil for nothing
	answered atomic.Bool  // what was asked of the ledger was answered before the kill
	imports  int

	mu   sync.Mutex // guards told
	told map[uint64]map[string]bool
}

func (k *killing) goOn(ctx context.Context, kills int) error {
	for n := 0; n < kills && ctx.Err() == nil; {
		// Now and then a service is killed before it has even started.
		early := k.random.IntN(4) == 0
		if early {
			if _, err := k.start(); err != nil {
				return err
			}
			time.Sleep(time.Duration(k.random.Int64N(int64(1500 * time.Millisecond))))
			k.kill("service", k.service.Process.Pid)
			n++
			_ = k.service.Wait() // it ended by the signal
			continue
		}
		done, err := k.round()
		if err != nil {
			return err
		}
		n += done
	}
	return nil
}

// round starts the service, looks whether all is there, has it sweep, and kills something in the middle.
func (k *killing) round() (kills int, err error) {
	if err := k.startWhole(); err != nil {
		return 0, err
	}
	if err := k.wantAll(); err != nil {
		return 0, err
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	work, late := k.sweep, lateKill
	if k.random.IntN(2) == 0 {
		work, late = k.books, soonKill
	}
	watched, err := work(ctx)
	if err != nil {
		return 0, err
	}
	time.Sleep(time.Duration(k.random.Int64N(int64(late))))
	if k.random.IntN(3) > 0 {
		if k.killDatabase() {
			kills++
		}
		if k.random.IntN(2) == 0 { // the service goes on, and starts its database again
			time.Sleep(time.Duration(k.random.Int64N(int64(lateKill))))
		}
	}
	k.kill("service", k.service.Process.Pid)
	_ = k.service.Wait() // it ended by the signal
	stop()
	<-watched
	return kills + 1, nil
}

// start begins a service and does not wait for it; out is what it says.
func (k *killing) start() (out io.ReadCloser, err error) {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), serve+"="+k.dir)
	if out, err = cmd.StdoutPipe(); err != nil {
		return nil, err
	}
	log, err := os.OpenFile(filepath.Join(k.dir, "killing.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close() // the service has its own
	cmd.Stderr, k.service = log, cmd
	return out, cmd.Start()
}

// startWhole starts a service and waits until it serves and has entered what was left.
func (k *killing) startWhole() error {
	out, err := k.start()
	if err != nil {
		return err
	}
	line := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(out)
		lines.Scan()
		line <- lines.Text()
	}()
	select {
	case text := <-line:
		if text != "ready" {
			return fmt.Errorf("start %d did not succeed: %s", k.starts+1, text)
		}
	case <-time.After(startWait):
		return fmt.Errorf("start %d did not succeed within %s", k.starts+1, startWait)
	}
	k.starts++
	return k.settle()
}

// settle waits until what was left is entered, and enters the site at the first time.
func (k *killing) settle() error {
	ctx, cancel := context.WithTimeout(context.Background(), startWait)
	defer cancel()
	if k.site.ID == 0 {
		scenario, err := simsitetest.Load()
		if err != nil {
			return err
		}
		k.site, err = k.cl.EnterSite(ctx, scenario.NewSite(), scenario.NewCredentials())
		return err
	}
	for {
		overview, err := k.cl.Overview(ctx, k.site.ID)
		if err != nil {
			return fmt.Errorf("overview after start %d: %w", k.starts, err)
		}
		waiting := ""
		for _, notice := range overview.Notices {
			if strings.Contains(notice, "being entered") {
				waiting = notice
			} else {
				return fmt.Errorf("after start %d: %s", k.starts, notice)
			}
		}
		if waiting == "" {
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// sweep goes on with the sweep that was interrupted, or starts another, and notes in the background what it tells.
func (k *killing) sweep(ctx context.Context) (watched <-chan struct{}, err error) {
	id := uint64(0)
	sweeps, err := k.cl.Sweeps(ctx, k.site.ID)
	if err != nil {
		return nil, err
	}
	if len(sweeps) > 0 && sweeps[0].State == "interrupted" && k.random.IntN(2) == 0 {
		id = sweeps[0].ID
		_, err = k.cl.ContinueSweep(ctx, id)
	} else {
		var started api.Sweep
		started, err = k.cl.StartSweep(ctx, k.site.ID, api.NewSweep{Ranges: ranges, Pace: "brisk", Ports: "22,80"})
		id = started.ID
	}
	if err != nil {
		return nil, err
	}
	over := make(chan struct{})
	go func() {
		defer close(over)
		_, _ = k.cl.Watch(ctx, id, client.Watcher{Sighting: func(s api.Sighting) { k.note(id, s) }}) // it breaks off when the service is killed
	}()
	return over, nil
}

func (k *killing) note(sweep uint64, s api.Sighting) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.told[sweep] == nil {
		k.told[sweep] = map[string]bool{}
	}
	k.told[sweep][s.Addr+" "+s.MAC] = true
}

// wantAll looks whether all that was told of is there.
func (k *killing) wantAll() error {
	if k.holds != nil {
		if err := k.holds(); err != nil {
			return err
		}
		k.holds = nil
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for sweep, told := range k.told {
		kept, err := k.cl.Sightings(context.Background(), sweep)
		if err != nil {
			return fmt.Errorf("sightings of sweep %d: %w", sweep, err)
		}
		has := make(map[string]bool, len(kept))
		for _, s := range kept {
			has[s.Addr+" "+s.MAC] = true
		}
		for who := range told {
			if !has[who] {
				return fmt.Errorf("%s was told of in sweep %d and is lost", who, sweep)
			}
		}
	}
	// Of what is there for good only the newest need be looked at again.
	for sweep := range k.told {
		if len(k.told) > 5 && sweep+5 < k.newest() {
			k.seen += len(k.told[sweep])
			delete(k.told, sweep)
		}
	}
	return nil
}

func (k *killing) newest() (newest uint64) {
	for sweep := range k.told {
		newest = max(newest, sweep)
	}
	return newest
}

func (k *killing) tellings() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	n := k.seen
	for _, told := range k.told {
		n += len(told)
	}
	return n
}

func (k *killing) kill(what string, pid int) {
	if err := syscall.Kill(pid, syscall.SIGKILL); err == nil {
		k.counts[what]++
	}
}

// killDatabase kills the database, where it runs at the moment.
func (k *killing) killDatabase() bool {
	text, err := os.ReadFile(filepath.Join(k.dir, "database", "server.pid"))
	if err != nil {
		return false
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return false
	}
	k.kill("database", pid)
	return true
}

// end starts the service once more, looks whether all is there, and ends it.
func (k *killing) end() error {
	if k.service != nil && k.service.ProcessState == nil {
		_ = k.service.Process.Kill()
		_ = k.service.Wait()
	}
	if err := k.startWhole(); err != nil {
		return err
	}
	err := k.wantAll()
	k.killDatabase()
	return errors.Join(err, k.service.Process.Kill(), ignore(k.service.Wait()))
}

func ignore(error) error { return nil } // it ended by the signal
