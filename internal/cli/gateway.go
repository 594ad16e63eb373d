package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/gateway"
)

func (a *app) gatewayCmd() *cobra.Command {
	c := &cobra.Command{Use: "gateway", Aliases: []string{"gateways"},
		Short: "Stand between applications and the database in charge, so that a cutover needs no new connection strings"}
	c.AddCommand(a.gatewayRun(), a.gatewayList(), a.gatewayRemove())
	return c
}

func (a *app) gatewayRun() *cobra.Command {
	c := &cobra.Command{
		Use: "run NAME", Short: "Pass connections to the database of a crossing that is in charge",
		Args: exactly("the crossing's NAME"),
		Long: `Run a gateway: applications connect to it as if it were the source. It passes their
sessions on to the source and, from the cutover on, to the target; after going back to the
source again. In a cutover's write pause it lets no transaction begin: who asks waits. After
the pause a session of the other side is ended by the words of its protocol for "the
administrator ended this connection", and the application connects anew, to the same address.
After a rehearsal, or a cutover that was undone, all go on as if nothing had been.

It needs a token of the role gateway ('dustyferry token add NAME --role gateway'), good for
this alone. Where the service cannot be reached it stays where it is. Several may run side by
side. Users and passwords are those of the servers: both sides need the same. Between two
engines it only holds and releases. See docs/gateway.md.`,
		Example: `  DUSTYFERRY_TOKEN=… dustyferry gateway run spring --listen 127.0.0.1:6432 --status 127.0.0.1:6433`,
		RunE:    func(cmd *cobra.Command, args []string) error { return a.runGateway(cmd, args[0]) },
	}
	f := c.Flags()
	f.String("listen", "127.0.0.1:6432", "address that applications connect to")
	f.String("name", "", "by which the service knows this gateway (default: gateway- and the port)")
	f.String("status", "", "address that answers /healthz, /readyz and /metrics; empty: none")
	f.Duration("hold-limit", time.Minute, "how long a new connection is held at most before it is refused")
	f.String("tls-cert", "", "certificate file; with --tls-key applications connect encrypted (PostgreSQL)")
	f.String("tls-key", "", "key file of the certificate")
	f.Bool("unencrypted", false, "let applications connect from other machines without encryption")
	f.Bool("debug", false, "log everything")
	return c
}

func (a *app) runGateway(cmd *cobra.Command, crossing string) error {
	api, err := a.client()
	if err != nil {
		return err
	}
	set := gateway.Settings{Service: api, Crossing: crossing, Name: a.conf.GetString("name"),
		Listen: a.conf.GetString("listen"), HoldAt: a.conf.GetDuration("hold-limit"), Log: a.logger()}
	host, port, err := net.SplitHostPort(set.Listen)
	if err != nil {
		return exitWith(ExitUsage, "--listen %q is no address; write it like 127.0.0.1:6432", set.Listen)
	}
	if set.Name == "" {
		set.Name = "gateway-" + port
	}
	cert, key := a.conf.GetString("tls-cert"), a.conf.GetString("tls-key")
	if (cert == "") != (key == "") {
		return exitWith(ExitUsage, "--tls-cert and --tls-key go together")
	}
	if cert != "" {
		pair, err := tls.LoadX509KeyPair(cert, key)
		if err != nil {
			return fmt.Errorf("the certificate cannot be used: %w", err)
		}
		set.TLS = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	}
	if ip := net.ParseIP(host); set.TLS == nil && !a.conf.GetBool("unencrypted") && host != "localhost" &&
		(ip == nil || !ip.IsLoopback()) {
		return exitWith(ExitUsage, "%s is reached from other machines; give --tls-cert and --tls-key, or --unencrypted "+
			"where nobody listens to the network", set.Listen)
	}
	ctx := cmd.Context()
	g, err := gateway.Start(ctx, set)
	if err != nil {
		return err
	}
	defer g.Stop()
	failed := make(chan error, 1)
	if at := a.conf.GetString("status"); at != "" {
		stop, err := statusOf(at, g.Status(), set.Log, failed)
		if err != nil {
			return err
		}
		defer stop()
	}
	fmt.Fprintf(os.Stdout, "Ready at %s\n", g.Address())
	select {
	case <-ctx.Done():
		set.Log.Info("stopping")
		return nil
	case err := <-failed:
		return err
	}
}

// statusOf serves a gateway's status.
func statusOf(at string, h http.Handler, log *slog.Logger, failed chan<- error) (stop func(), err error) {
	ln, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("the status cannot be served: %w", err)
	}
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	go func() {
		if err := srv.Serve(ln); !errors.Is(err, http.ErrServerClosed) {
			failed <- err
		}
	}()
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = srv.Shutdown(ctx)
	}, nil
}

func (a *app) gatewayList() *cobra.Command {
	return &cobra.Command{
		Use: "list NAME", Short: "Show a crossing's gateways and where they lead", Args: exactly("the crossing's NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			all, err := client.Do[contract.Gateways](api.API.ListGatewaysWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(all, func(w *table) {
				if all.Route == nil {
					w.line("No gateway of %s has run yet. Start one with: dustyferry gateway run %s", args[0], args[0])
					return
				}
				w.line("%s\n", leads(all.Route))
				w.row("GATEWAY", "LISTENS AT", "STATE", right+"SESSIONS", right+"AT WORK", right+"HELD", right+"LONGEST HOLD",
					"HEARD OF")
				for _, g := range all.Gateways {
					state := "as told"
					switch {
					case g.Lost:
						state = "lost"
					case g.Epoch < all.Route.Epoch:
						state = "turning"
					}
					w.row(g.Name, g.Listens, state, right+strconv.Itoa(g.Sessions), right+strconv.Itoa(g.Busy),
						right+strconv.Itoa(g.Waiting), right+fmt.Sprintf("%.2f s", g.Stall), stampText(&g.SeenAt))
				}
			})
		},
	}
}

// leads says where gateways lead.
func leads(r *contract.GatewayRoute) string {
	switch r.State {
	case contract.Holding:
		return "Connections are held; they led to " + r.Live + "."
	case contract.Moved:
		return "The tables have moved to " + r.Live + ", which is of another engine; connections are refused."
	default:
		return fmt.Sprintf("Connections lead to %s (%s).", r.Live, net.JoinHostPort(r.Host, strconv.Itoa(r.Port)))
	}
}

func (a *app) gatewayRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME GATEWAY", Short: "Forget a gateway that has ended without saying so",
		Args: exactly("the crossing's NAME", "the GATEWAY"),
		Long: `Forget a gateway. One that still runs makes itself known again. Where a person's word stops
writes, a cutover waits for every gateway: removing one says that nobody uses it any more.`,
		Example: "  dustyferry gateway remove spring gateway-6432",
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			if _, err := client.Do[struct{}](api.API.RemoveGatewayWithResponse(cmd.Context(), args[0],
				strings.TrimSpace(args[1]))); err != nil {
				return err
			}
			return a.show(map[string]string{"removed": args[1]}, func(w *table) { w.line("Gateway %s is forgotten.", args[1]) })
		},
	}
}
