// Command console measures how long a browser takes from asking for the page of
// a crossing until its tables are drawn, and how even its frames are while it is
// live: for a crossing of 2,000 tables and 100,000 chunks beside one of a single
// table, which is the limit that the browser and the page itself set.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
	"dustyferry/internal/localserver"
	"dustyferry/internal/service"
)

func main() {
	tables := flag.Int("tables", 2000, "tables of the large crossing")
	chunks := flag.Int("chunks", 100_000, "chunks of the large crossing")
	pairs := flag.Int("pairs", 7, "interleaved pairs")
	flag.Parse()
	if err := run(context.Background(), *tables, *chunks, *pairs); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context, tables, chunks, pairs int) error {
	pg, err := localserver.StartPostgres(ctx, localserver.Options{})
	if err != nil {
		return err
	}
	defer pg.Stop()
	svc, token, end, err := rig.Serve(ctx)
	if err != nil {
		return err
	}
	defer end()
	if err := fill(ctx, svc, pg, token, tables, chunks); err != nil {
		return err
	}
	browser, leave, err := open(ctx, svc.URL(), token)
	if err != nil {
		return err
	}
	defer leave()
	moving, still := context.WithCancel(ctx)
	defer still()
	go move(moving, svc.ControlURL())

	var large, small, ratio []float64
	for i := range pairs + 1 { // the first pair warms up and is not counted
		l, err := drawn(browser, svc.URL()+"/crossings/large")
		if err != nil {
			return err
		}
		s, err := drawn(browser, svc.URL()+"/crossings/small")
		if err != nil {
			return err
		}
		if i > 0 {
			large, small, ratio = append(large, l), append(small, s), append(ratio, l/s)
			fmt.Printf("pair %d: large %4.0f ms, small %4.0f ms, ratio %.2f\n", i, l, s, l/s)
		}
	}
	even := map[string]float64{}
	for _, name := range []string{"large", "small"} {
		if _, err := drawn(browser, svc.URL()+"/crossings/"+name); err != nil {
			return err
		}
		if even[name], err = longestFrame(browser); err != nil {
			return err
		}
		fmt.Printf("%s: the longest of ten seconds of frames took %.0f ms\n", name, even[name])
	}
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "console", "tables": tables, "chunks": chunks,
		"pairs":         pairs,
		"open_large_ms": rig.Median(large), "open_small_ms": rig.Median(small), "ratio": rig.Median(ratio),
		"longest_frame_large_ms": even["large"], "longest_frame_small_ms": even["small"]})
}

// fill makes two crossings: a large one, and one of a single table.
func fill(ctx context.Context, svc *service.Service, pg *localserver.Postgres, token string, tables, chunks int) error {
	api, err := client.New(svc.URL(), token)
	if err != nil {
		return err
	}
	disable := contract.Disable
	for _, db := range []string{"old", "new", "newer"} {
		c, err := pgx.Connect(ctx, pg.URL("postgres"))
		if err != nil {
			return err
		}
		if _, err := c.Exec(ctx, "CREATE DATABASE "+db); err != nil {
			return err
		}
		_ = c.Close(ctx)
		if _, err := client.Do[contract.Database](api.API.AddDatabaseWithResponse(ctx, contract.NewDatabase{Name: db,
			Engine: "postgres", Host: pg.Host, Port: pg.Port,
			Database: db, User: pg.User, Password: pg.Password, Tls: &disable})); err != nil {
			return err
		}
	}
	for name, target := range map[string]string{"large": "new", "small": "newer"} {
		if _, err := client.Do[contract.Crossing](api.API.AddCrossingWithResponse(ctx, contract.NewCrossing{Name: name,
			Source: "old", Target: target})); err != nil {
			return err
		}
	}
	if err := demo.Large(ctx, svc.ControlURL(), "small", 1, 1); err != nil {
		return err
	}
	return demo.Large(ctx, svc.ControlURL(), "large", tables, chunks)
}

// move changes figures all the time, so that a live page has something to draw.
func move(ctx context.Context, controlURL string) {
	c, err := pgx.Connect(ctx, controlURL)
	if err != nil {
		return
	}
	defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
	for ctx.Err() == nil {
		_, _ = c.Exec(ctx, `UPDATE tables SET rows_landed = rows_landed + 12345, bytes_landed = bytes_landed + 1234567,
  inserts = inserts + 7 WHERE ordinal % 7 = 1`)
		time.Sleep(500 * time.Millisecond)
	}
}

func open(ctx context.Context, url, token string) (context.Context, func(), error) {
	profile, err := os.MkdirTemp("", "dusty-ferry-bench-browser-")
	if err != nil {
		return nil, nil, err
	}
	opts := append([]chromedp.ExecAllocatorOption{}, chromedp.DefaultExecAllocatorOptions[:]...)
	opts = append(opts, chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-dev-shm-usage", true),
		chromedp.Flag("disable-background-networking", true),
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.UserDataDir(profile), chromedp.WindowSize(1280,
			800))
	alloc, endAlloc := chromedp.NewExecAllocator(ctx, opts...)
	tab, endTab := chromedp.NewContext(alloc)
	end := func() {
		endTab()
		endAlloc()
		time.Sleep(300 * time.Millisecond)
		_ = os.RemoveAll(profile)
	}
	signIn, _ := json.Marshal(token)
	if err := chromedp.Do(tab, chromedp.Navigate(url)); err != nil {
		end()
		return nil, nil, err
	}
	ok, err := chromedp.Run(tab, chromedp.Evaluate[bool](fmt.Sprintf(
		`fetch('/api/session', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({token: %s})}).then(r => r.ok)`, signIn), chromedp.EvalAwaitPromise))
	if err == nil && !ok {
		err = fmt.Errorf("signing in failed")
	}
	if err != nil {
		end()
		return nil, nil, err
	}
	return tab, end, nil
}

// drawn opens the page and returns how many milliseconds passed from asking for
// it until rows of the table stood in it.
func drawn(tab context.Context, url string) (float64, error) {
	if err := chromedp.Do(tab, chromedp.Navigate(url)); err != nil {
		return 0, err
	}
	return chromedp.Run(tab, chromedp.Evaluate[float64](`new Promise(done => {
  const rows = () => document.querySelectorAll('[role=table] [role=cell] a').length;
  const look = () => rows() > 0 ? done(performance.now()) : setTimeout(look, 2);
  if (rows() > 0) {
    // It stood there before we could look: the newest paint is the upper bound.
    done(Math.max(...performance.getEntriesByType('paint').map(p => p.startTime), performance.timing.loadEventEnd - performance.timing.navigationStart));
  } else look();
})`, chromedp.EvalAwaitPromise))
}

func longestFrame(tab context.Context) (float64, error) {
	return chromedp.Run(tab, chromedp.Evaluate[float64](`new Promise(done => {
  let last = performance.now(), longest = 0;
  const end = last + 10000;
  const frame = (t) => { longest = Math.max(longest, t - last); last = t; t < end ? requestAnimationFrame(frame) : done(longest) };
  requestAnimationFrame(t => { last = t; requestAnimationFrame(frame) });
})`, chromedp.EvalAwaitPromise))
}
