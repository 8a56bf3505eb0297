package control

// AttachRequest asks for an array to be a device of this host.
type AttachRequest struct {
	Array string `json:"array"`
	Boot  *bool  `json:"boot,omitempty"` // whether it comes back by itself after a reboot; nil: as it was
	// Connections is how many the kernel's client gets; 0: as they were, or one.
	Connections int `json:"connections,omitempty"`
}

// DetachRequest asks for the end of that.
type DetachRequest struct {
	Array  string `json:"array"`
	Force  bool   `json:"force"`   // although it is in use
	DryRun bool   `json:"dry_run"` // only say what would be lost
}

// DetachReply says what became of it.
type DetachReply struct {
	Device    string   `json:"device"`
	UsedBy    []string `json:"used_by,omitempty"`
	Unflushed int64    `json:"unflushed_bytes"` // at most, that a forced one loses when the service does not answer
}

// DeviceStatus is the device that an array is attached as.
type DeviceStatus struct {
	Path      string   `json:"path"` // the stable link, where there is one
	Device    string   `json:"device"`
	Kind      string   `json:"kind"`
	Boot      bool     `json:"boot"`
	Connected bool     `json:"connected"`
	Reason    string   `json:"reason,omitempty"`
	Lost      bool     `json:"lost"`
	Unflushed int64    `json:"unflushed_bytes"`
	UsedBy    []string `json:"used_by,omitempty"`
	Mounted   []string `json:"mounted,omitempty"`
}
