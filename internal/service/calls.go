// Package service is everything in use on this host: it finds disks, starts the arrays they carry, and does what
// commands ask for.
package service

import "nidalo/internal/control"

// Control is what can be asked of the service.
func (s *Service) Control() *control.Control {
	return &control.Control{
		Disks:       s.Disks,
		Status:      s.Status,
		MayPull:     s.MayPull,
		Next:        s.Next,
		History:     s.History,
		Readings:    s.Readings,
		Health:      s.Health,
		WhatIf:      s.WhatIf,
		Map:         s.Map,
		Create:      s.Create,
		Fail:        s.Fail,
		Replace:     s.Replace,
		ReplaceDisk: s.ReplaceDisk,
		Check:       s.Check,
		Erase:       s.Erase,
		Choose:      s.Choose,
		Dissolve:    s.Dissolve,
		Start:       s.Start,
		Stop:        s.Stop,
		Rename:      s.Rename,
		Retire:      s.Retire,
		Change:      s.Change,
		AssignSpare: s.AssignSpare,
		Spares:      s.Spares,
		Exchanges:   s.Exchanges,
		Exchange:    s.Exchange,
		SetPace:     s.SetPace,
		SpinDown:    s.SpinDown,
		Lend:        s.Lend,
		HandOver:    s.HandOver,
		Rounds:      s.Rounds,
		Steer:       s.Steer,
		Locate:      s.Locate,
		Inspect:     s.Inspect,
		Vet:         s.Vet,
		Surface:     s.Surface,
		Rescue:      s.Rescue,
		TestAlerts:  s.TestAlerts,
		Acknowledge: s.Acknowledge,
		Attach:      s.Attach,
		Detach:      s.Detach,
		Fit:         s.Fit,
		Own:         true, Close: s.Close,
	}
}
