package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/secret"
	"dustyferry/internal/voyage"
)

// openKey opens the key that seals passwords and masks values, and makes sure that it is
// the one the control database knows. Only a service makes a key, and only where no key
// was ever used, or when it is told to replace a lost one.
func (s *Service) openKey(ctx context.Context) (*secret.Box, error) {
	set := &s.set
	known, err := s.store.Fact(ctx, records.FactKey)
	if err != nil {
		return nil, fmt.Errorf("looking up the key's fingerprint: %w", err)
	}
	sealed := known != ""
	if !sealed { // a control database of before there were fingerprints
		if sealed, err = s.store.HoldsSecrets(ctx); err != nil {
			return nil, fmt.Errorf("looking for sealed secrets: %w", err)
		}
	}
	if set.NewKey {
		return s.replaceKey(ctx)
	}
	box, err := secret.OpenBox(set.KeyFile)
	if errors.Is(err, secret.ErrNoKey) {
		switch {
		case set.Worker():
			return nil, domain.Conflict("there is no key file %s; copy the key file of the service to this machine (its "+
				"--key-file, or \"key\" in its data directory) and name it with --key-file", set.KeyFile)
		case sealed:
			return nil, domain.Conflict("the key file %s is gone, and passwords in the control database were sealed with it "+
				"(fingerprint %s); restore it from a copy. "+
				"If there is none, start once with --new-key: every password has to be entered again then, and masks give "+
				"other values", set.KeyFile, orUnknown(known))
		}
		box, err = secret.MakeKey(set.KeyFile)
	}
	if err != nil {
		return nil, err
	}
	if known == "" {
		if set.Worker() {
			return nil, domain.Conflict("the control database knows no key yet; start its service first")
		}
		if known, err = s.adopt(ctx, box); err != nil {
			return nil, err
		}
	}
	if known != box.Fingerprint() {
		return nil, domain.Conflict("the key file %s is not the one that the control database's passwords are sealed with: "+
			"its fingerprint is %s, wanted is %s; give the right one with --key-file",
			set.KeyFile, box.Fingerprint(), known)
	}
	return box, s.bindOld(ctx, box)
}

func orUnknown(fingerprint string) string {
	if fingerprint == "" {
		return "not noted"
	}
	return fingerprint
}

// adopt notes the key as the one of this control database, once it opens what is there.
func (s *Service) adopt(ctx context.Context, box *secret.Box) (string, error) {
	old, err := s.store.UnboundSecrets(ctx)
	if err != nil {
		return "", err
	}
	for _, x := range old {
		if _, err := box.Open(x.Secret, ""); err != nil {
			return "", domain.Conflict("the key file %s does not open the password of %s in the control database; give the "+
				"key file it was sealed with (--key-file)", s.set.KeyFile, x.Name)
		}
	}
	return s.store.FirstFact(ctx, records.FactKey, box.Fingerprint())
}

// bindOld seals anew what was sealed before secrets were bound to their place.
func (s *Service) bindOld(ctx context.Context, box *secret.Box) error {
	if s.set.Worker() {
		return nil
	}
	old, err := s.store.UnboundSecrets(ctx)
	if err != nil {
		return err
	}
	for _, x := range old {
		plain, err := box.Open(x.Secret, "")
		if err != nil {
			return fmt.Errorf("%s: %w", x.Name, err)
		}
		if err := s.store.BindSecret(ctx, x, func(bound string) []byte { return box.Seal(plain, bound) }); err != nil {
			return fmt.Errorf("binding the password of %s to its address: %w", x.Name, err)
		}
	}
	return nil
}

// replaceKey makes another key where the first one is lost. What was sealed with it cannot
// be opened any more, and masks give other values: crossings that mask and are under way
// are held, as their rows of before and after would differ.
func (s *Service) replaceKey(ctx context.Context) (*secret.Box, error) {
	set := &s.set
	if set.Worker() {
		return nil, errors.New("only a service replaces the key")
	}
	if box, err := secret.OpenBox(set.KeyFile); err == nil {
		known, err := s.store.Fact(ctx, records.FactKey)
		if err != nil {
			return nil, err
		}
		if known == box.Fingerprint() {
			return nil, domain.Conflict("the key file %s is the right one; start without --new-key", set.KeyFile)
		}
	}
	if _, err := os.Stat(set.KeyFile); err == nil {
		aside := set.KeyFile + ".before-" + time.Now().UTC().Format("20060102T150405")
		if err := os.Rename(set.KeyFile, aside); err != nil {
			return nil, fmt.Errorf("putting the old key file aside: %w", err)
		}
		set.Log.Warn("the key file that was there is kept", "file", filepath.Base(aside))
	}
	box, err := secret.MakeKey(set.KeyFile)
	if err != nil {
		return nil, err
	}
	if err := s.store.SetFact(ctx, records.FactKey, box.Fingerprint()); err != nil {
		return nil, err
	}
	held, err := s.store.HoldMasked(ctx, "the key of the masks was replaced: rows that were loaded before have other "+
		"masked values than those that come now; restart the crossing to load it anew")
	if err != nil {
		return nil, err
	}
	s.store.JournalKey = box.Derive(journalKey)
	msg := fmt.Sprintf("the key was replaced (fingerprint %s): stored passwords have to be entered again ('dustyferry "+
		"database change')", box.Fingerprint())
	if err := s.store.Write(ctx, domain.JournalEntry{Actor: voyage.System, Act: "key", Severity: "warning",
		Message: msg}); err != nil {
		return nil, err
	}
	for _, name := range held {
		if err := s.store.Write(ctx, domain.JournalEntry{Actor: voyage.System, Crossing: name, Act: "hold", Severity: "error",
			Message: "held: the key of its masks was replaced"}); err != nil {
			return nil, err
		}
	}
	return box, nil
}

// journalKey is the purpose of the key by which the journal's entries are tied together.
const journalKey = "journal"
