package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/net/netutil"

	"latchkey/server/api"
	"latchkey/server/judge"
	"latchkey/server/people"
	"latchkey/server/store"
	"latchkey/web"
)

// databaseFlag adds the flag that says where the database is. The variable is read when
// it is needed, so that no help prints it.
func databaseFlag(cmd *cobra.Command) *string {
	return cmd.Flags().String("database", "", "address of the database, as user:password@tcp(127.0.0.1:port)/name; without it that of the variable LATCHKEY_DATABASE")
}

// databaseWait bounds how long a server that starts waits for its database.
const databaseWait = 2 * time.Minute

// openStore connects to the database, waits until it answers, and brings its schema up
// to date.
func openStore(ctx context.Context, dsn string, log *slog.Logger) (*store.Store, []string, error) {
	if dsn == "" {
		dsn = os.Getenv("LATCHKEY_DATABASE")
	}
	if dsn == "" {
		return nil, nil, errors.New("no database: give --database or set LATCHKEY_DATABASE")
	}
	s, err := store.Open(dsn)
	if err != nil {
		return nil, nil, err
	}
	err = s.Wait(ctx, databaseWait, func(err error) { log.Warn("waiting for the database", "cause", err) })
	var applied []string
	if err == nil {
		if applied, err = s.Migrate(ctx); err != nil {
			err = fmt.Errorf("bringing the schema up to date: %w", err)
		}
	}
	if err != nil {
		s.Close()
		return nil, nil, err
	}
	return s, applied, nil
}

// serving is what the server is started with.
type serving struct {
	dsn, listen, downloads string
	hosts                  []string
	cert, key              string
	proxy                  bool
	lead                   string
}

func serveCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "serve", Short: "Serve the application on this machine", Args: cobra.NoArgs,
		Long: "Serve the application. As long as no lead has a password, the address is printed with a key that signs the first lead in, once."}
	dsn := databaseFlag(cmd)
	var o serving
	cmd.Flags().StringVar(&o.listen, "listen", "127.0.0.1:8384", "address to listen on; port 0 takes a free one")
	cmd.Flags().StringVar(&o.downloads, "downloads", besideBinary("downloads"), "folder with the builds of the capture command")
	cmd.Flags().StringSliceVar(&o.hosts, "host", nil, "a name under which the server is addressed, besides that of --listen; may be given more than once")
	cmd.Flags().StringVar(&o.cert, "tls-cert", "", "file with the certificate for TLS")
	cmd.Flags().StringVar(&o.key, "tls-key", "", "file with the certificate's key")
	cmd.Flags().BoolVar(&o.proxy, "behind-proxy", false, "a proxy before the server does TLS, and says in X-Forwarded-For who asks")
	cmd.Flags().StringVar(&o.lead, "first-lead", "Lead", "name of the first lead, where there is none yet")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		o.dsn = *dsn
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		return o.run(ctx, cmd.OutOrStdout(), slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil)))
	}
	return cmd
}

// Bounds of the whole process.
const (
	memoryLimit    = 190 << 20 // bytes; the collector works towards it
	maxConnections = 256
)

func (o *serving) run(ctx context.Context, out io.Writer, log *slog.Logger) error {
	if err := o.check(); err != nil {
		return err
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
	s, applied, err := openStore(ctx, o.dsn, log)
	if err != nil {
		return err
	}
	defer s.Close()
	if len(applied) > 0 {
		log.Info("schema brought up to date", "applied", len(applied))
	}
	l, err := net.Listen("tcp", o.listen)
	if err != nil {
		return err
	}
	scheme, secure := "http", o.cert != "" || o.proxy
	if o.cert != "" {
		scheme = "https"
	}
	who := people.New(s, secure, log)
	link, err := o.firstKey(ctx, s)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "Latchkey is at %s://%s/%s\n", scheme, l.Addr(), link)
	if link != "" {
		fmt.Fprintln(out, "The key in it signs the lead in, once. Set a password under Settings; until then every start prints another key.")
	}
	j := judge.New(s)
	h := api.New(api.Config{Store: s, Judge: j, People: who, Web: web.Files(), Builds: o.downloads,
		Hosts: o.names(l.Addr()), BehindProxy: o.proxy, Log: log})
	go tidy(ctx, s, who, log)
	go j.WatchFleet(ctx, log)
	return serve(ctx, netutil.LimitListener(l, maxConnections), h, o.cert, o.key)
}

// check refuses to serve other machines without TLS.
func (o *serving) check() error {
	if (o.cert == "") != (o.key == "") {
		return errors.New("TLS takes both --tls-cert and --tls-key")
	}
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil {
		return fmt.Errorf("--listen %q: expected an address such as 127.0.0.1:8384", o.listen)
	}
	if loopback(host) || o.cert != "" || o.proxy {
		return nil
	}
	return fmt.Errorf("--listen %s is reached from other machines, and names, passwords and evidence would pass the network in the clear: give --tls-cert and --tls-key, or --behind-proxy when a proxy before it does TLS", o.listen)
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// names are those under which the server may be addressed.
func (o *serving) names(at net.Addr) []string {
	names := []string{"localhost", "127.0.0.1", "::1"}
	if host, _, err := net.SplitHostPort(at.String()); err == nil {
		names = append(names, host)
	}
	if host, _, err := net.SplitHostPort(o.listen); err == nil && host != "" {
		names = append(names, host)
	}
	for _, h := range o.hosts {
		names = append(names, strings.ToLower(strings.TrimSpace(h)))
	}
	return names
}

// firstKey is what the address ends in: a key, as long as no lead has a password.
func (o *serving) firstKey(ctx context.Context, s *store.Store) (string, error) {
	lead, err := s.FirstLead(ctx, o.lead)
	if err != nil || lead == nil {
		return "", err
	}
	key, err := s.NewKey(ctx, lead.ID)
	return "#key=" + key, err
}

// tidyTime is how often what has run out is removed.
const tidyTime = 10 * time.Minute

// tidy removes sessions that have run out, and the evidence of cases that were closed
// long enough ago.
func tidy(ctx context.Context, s *store.Store, who *people.People, log *slog.Logger) {
	ticker := time.NewTicker(tidyTime)
	defer ticker.Stop()
	for {
		err := who.Tidy(ctx)
		if err == nil {
			var days, cleared int
			if days, err = s.KeepDays(ctx); err == nil && days > 0 {
				if cleared, err = s.Clear(ctx, days); cleared > 0 {
					log.Info("evidence of closed cases removed", "cases", cleared)
				}
			}
		}
		if err != nil && ctx.Err() == nil {
			log.Error("tidying up", "cause", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// besideBinary returns a path beside the running program.
func besideBinary(name string) string {
	path, err := os.Executable()
	if err != nil {
		return name
	}
	return filepath.Join(filepath.Dir(path), name)
}

// serve answers requests until the context ends, then lets running ones finish.
func serve(ctx context.Context, l net.Listener, h http.Handler, cert, key string) error {
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 16 << 10,
		TLSConfig:      &tls.Config{MinVersion: tls.VersionTLS12}, ErrorLog: slog.NewLogLogger(slog.DiscardHandler,
			slog.LevelInfo)}
	ended := make(chan error, 1)
	go func() {
		if cert != "" {
			ended <- server.ServeTLS(l, cert, key)
		} else {
			ended <- server.Serve(l)
		}
	}()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	grace, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return server.Shutdown(grace)
}

func migrateCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "migrate", Short: "Bring the database's schema up to date", Args: cobra.NoArgs}
	dsn := databaseFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		s, applied, err := openStore(cmd.Context(), *dsn, slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil)))
		if err != nil {
			return err
		}
		defer s.Close()
		for _, name := range applied {
			fmt.Fprintln(cmd.OutOrStdout(), "applied", name)
		}
		if len(applied) == 0 {
			fmt.Fprintln(cmd.OutOrStdout(), "The schema is up to date.")
		}
		return nil
	}
	return cmd
}
