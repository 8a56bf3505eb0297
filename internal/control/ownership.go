package control

// HandOverRequest has another host take an array over.
type HandOverRequest struct {
	Array string `json:"array"`
	Host  string `json:"host"`
}

// Owned is how the host that has an array has it.
type Owned struct {
	Host  string  `json:"host"`
	Token uint64  `json:"token"`
	Left  float64 `json:"lease_left_seconds"` // until it stops serving, if etcd does not renew the lease
	// Fenced and Unfenced are how many of its disks other hosts are attached to as well: those that refuse their writes, and those that cannot.
	Fenced   int `json:"fenced,omitempty"`
	Unfenced int `json:"unfenced,omitempty"`
}
