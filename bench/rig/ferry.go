package rig

import (
	"context"
	"errors"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// Ferry steers the crossings of a service.
type Ferry struct{ *client.Client }

// Open is for a service that runs.
func Open(url, token string) (Ferry, error) {
	c, err := client.New(url, token)
	return Ferry{c}, err
}

// Start starts a service as [Serve] does, and opens it.
func Start(ctx context.Context) (Ferry, func(), error) {
	svc, token, end, err := Serve(ctx)
	if err != nil {
		return Ferry{}, nil, err
	}
	f, err := Open(svc.URL(), token)
	return f, end, err
}

var plain = contract.Disable

// Postgres and MariaDB are servers as a service registers them.
func Postgres(name string, s *localserver.Postgres) contract.NewDatabase {
	return contract.NewDatabase{Name: name, Engine: "postgres", Database: "postgres", Host: s.Host, Port: s.Port,
		User: s.User, Password: s.Password, Tls: &plain}
}

// MariaDB is [Postgres] for one of its databases.
func MariaDB(name, database string, s *localserver.MariaDB) contract.NewDatabase {
	return contract.NewDatabase{Name: name, Engine: "mariadb", Database: database, Host: s.Host, Port: s.Port,
		User: s.User, Password: s.Password, Tls: &plain}
}

// Register makes databases known.
func (f Ferry) Register(ctx context.Context, databases ...contract.NewDatabase) error {
	for _, d := range databases {
		if _, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(ctx, d)); err != nil {
			return err
		}
	}
	return nil
}

// Add makes a crossing from "old" to "new".
func (f Ferry) Add(ctx context.Context, c contract.NewCrossing) error {
	c.Source, c.Target = "old", "new"
	_, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(ctx, c))
	return err
}

// Go starts a crossing.
func (f Ferry) Go(ctx context.Context, name string) error {
	_, err := client.Do[contract.Crossing](f.API.StartCrossingWithResponse(ctx, name,
		contract.StartCrossingJSONRequestBody{}))
	return err
}

// Get is how a crossing stands; it is an error when it does not run.
func (f Ferry) Get(ctx context.Context, name string) (contract.Crossing, error) {
	c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(ctx, name))
	if err == nil && c.Condition != contract.ConditionRunning && c.Condition != contract.ConditionPaused {
		err = errors.New(string(c.Condition) + ": " + c.Reason)
	}
	return c, err
}

// Await asks so often until a crossing is as wanted.
func (f Ferry) Await(ctx context.Context, name string, often time.Duration, ok func(contract.Crossing) bool) error {
	for {
		c, err := f.Get(ctx, name)
		if err != nil || ok(c) {
			return err
		}
		time.Sleep(often)
	}
}

// InStep reports whether a crossing is in step.
func InStep(c contract.Crossing) bool { return c.Phase == contract.PhaseInStep }

// Close closes a crossing and waits until nothing is left of it.
func (f Ferry) Close(ctx context.Context, name string) error {
	if _, err := client.Do[contract.Crossing](f.API.CloseCrossingWithResponse(ctx, name,
		contract.CloseCrossingJSONRequestBody{Confirm: &name})); err != nil {
		return err
	}
	return f.Await(ctx, name, 100*time.Millisecond, func(c contract.Crossing) bool {
		return c.Phase == contract.PhaseClosed && c.Progress.Work == nil
	})
}
