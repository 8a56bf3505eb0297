// Package control is what can be asked of a service: requests, replies, errors for people, and one table of calls, from which both
// the handler of a service and the client of a command follow. All types in it are plain data that survive JSON. A call is a POST
// to /v1/NAME with the request as body, over a Unix socket; errors come back with status 422.
package control

import (
	"nidalo/core/advice"
	"nidalo/core/exchange"
	"nidalo/internal/history"
)

// Control is a service that can be asked, in this process or another: a function for every call. Each takes one request or nothing,
// and returns one reply and an error, or the error alone.
type Control struct {
	// Those that only look.
	Disks     func() ([]DiskInfo, error)                       `call:"disks,looks"`
	Status    func(name string) (*Status, error)               `call:"status,looks"`
	MayPull   func(PullRequest) (*PullReply, error)            `call:"may-pull,looks"`
	Next      func() (*NextReply, error)                       `call:"next,looks"`
	Spares    func() ([]SpareStatus, error)                    `call:"spares,looks"`
	Rounds    func() ([]Round, error)                          `call:"schedule,looks"`
	Exchanges func() ([]exchange.Exchange, error)              `call:"exchanges,looks"`
	History   func(HistoryRequest) (*HistoryReply, error)      `call:"history,looks"`
	Readings  func(ReadingsRequest) ([]history.Reading, error) `call:"readings,looks"`
	Health    func() ([]DiskHealth, error)                     `call:"health,looks"`
	WhatIf    func(WhatIfRequest) ([]advice.Loss, error)       `call:"what-if,looks"`
	Map       func(name string) (*MapReply, error)             `call:"map,looks"`

	// Those that change something, or read what not every user may.
	Create      func(CreateRequest) (*ArrayStatus, error)   `call:"create"`
	Fail        func(FailRequest) error                     `call:"fail"`
	Replace     func(ReplaceRequest) (*ReplaceReply, error) `call:"replace"`
	ReplaceDisk func(DiskRequest) (*DiskReply, error)       `call:"replace-disk"`
	Check       func(CheckRequest) error                    `call:"check"`
	Erase       func(EraseRequest) (*DiskInfo, error)       `call:"erase"`
	Choose      func(ChooseRequest) (*DiskInfo, error)      `call:"choose"`
	Dissolve    func(DissolveRequest) error                 `call:"dissolve"`
	Start       func(StartRequest) (*ArrayStatus, error)    `call:"start"`
	Stop        func(StopRequest) error                     `call:"stop"`
	Rename      func(RenameRequest) error                   `call:"rename"`
	Retire      func(RetireRequest) (*ReplaceReply, error)  `call:"retire"`
	Change      func(ChangeRequest) (*ChangeReply, error)   `call:"change"`
	AssignSpare func(SpareRequest) (*SpareReply, error)     `call:"spare"`

	Exchange    func(ExchangeRequest) (*exchange.Exchange, error) `call:"exchange"`
	SetPace     func(PaceRequest) ([]PaceReply, error)            `call:"pace"`
	SpinDown    func(SpinDownRequest) ([]ArrayStatus, error)      `call:"spin-down"`
	Lend        func(LendRequest) (*LendReply, error)             `call:"lend"`
	HandOver    func(HandOverRequest) error                       `call:"hand-over"`
	Steer       func(SteerRequest) error                          `call:"steer"`
	Locate      func(LocateRequest) (*LocateReply, error)         `call:"locate"`
	Inspect     func(disks []string) (*InspectReply, error)       `call:"inspect"`
	Vet         func(VetRequest) ([]Vetting, error)               `call:"vet"`
	Surface     func(SurfaceRequest) ([]Surface, error)           `call:"surface"`
	Rescue      func(RescueRequest) (*RescueReply, error)         `call:"rescue"`
	TestAlerts  func() ([]AlertResult, error)                     `call:"test-alerts"`
	Acknowledge func(array string) error                          `call:"acknowledge"`
	Attach      func(AttachRequest) (*DeviceStatus, error)        `call:"attach"`
	Detach      func(DetachRequest) (*DetachReply, error)         `call:"detach"`
	Fit         func(FitRequest) (*FitReply, error)               `call:"fit"`

	// Own: the service is one of this process's own, and ends with it.
	Own bool
	// Close lets the service go; one of this process's own ends.
	Close func() error
}
