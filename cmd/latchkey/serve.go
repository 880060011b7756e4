package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/spf13/cobra"

	"latchkey/server/api"
	"latchkey/server/judge"
	"latchkey/server/store"
	"latchkey/web"
)

// databaseFlag adds the flag that says where the database is.
func databaseFlag(cmd *cobra.Command) *string {
	return cmd.Flags().String("database", os.Getenv("LATCHKEY_DATABASE"),
		"address of the database, as user:password@tcp(127.0.0.1:port)/name (or LATCHKEY_DATABASE)")
}

// openStore connects to the database and brings its schema up to date.
func openStore(ctx context.Context, dsn string) (*store.Store, error) {
	if dsn == "" {
		return nil, errors.New("no database: give --database or set LATCHKEY_DATABASE")
	}
	s, err := store.Open(dsn)
	if err != nil {
		return nil, err
	}
	if _, err := s.Migrate(ctx); err != nil {
		s.Close()
		return nil, fmt.Errorf("bringing the schema up to date: %w", err)
	}
	return s, nil
}

func serveCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "serve", Short: "Serve the application on this machine", Args: cobra.NoArgs}
	dsn := databaseFlag(cmd)
	listen := cmd.Flags().String("listen", "127.0.0.1:8384", "address to listen on; port 0 takes a free one")
	downloads := cmd.Flags().String("downloads", besideBinary("downloads"), "folder with the builds of the capture command")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		s, err := openStore(ctx, *dsn)
		if err != nil {
			return err
		}
		defer s.Close()
		l, err := net.Listen("tcp", *listen)
		if err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Latchkey is at http://%s\n", l.Addr())
		return serve(ctx, l, api.New(s, judge.New(s), web.Files(), *downloads))
	}
	return cmd
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
func serve(ctx context.Context, l net.Listener, h http.Handler) error {
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(l) }()
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
		if *dsn == "" {
			return errors.New("no database: give --database or set LATCHKEY_DATABASE")
		}
		s, err := store.Open(*dsn)
		if err != nil {
			return err
		}
		defer s.Close()
		applied, err := s.Migrate(cmd.Context())
		for _, name := range applied {
			fmt.Fprintln(cmd.OutOrStdout(), "applied", name)
		}
		if err == nil && len(applied) == 0 {
			fmt.Fprintln(cmd.OutOrStdout(), "The schema is up to date.")
		}
		return err
	}
	return cmd
}

// openAPICommand prints the description that the web client's types are made of.
func openAPICommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the description of the HTTP interface", Args: cobra.NoArgs, Hidden: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			gin.SetMode(gin.ReleaseMode)
			enc := json.NewEncoder(cmd.OutOrStdout())
			enc.SetIndent("", " ")
			return enc.Encode(api.Register(gin.New(), nil, nil, ""))
		}}
}
