package control

// DiskRequest replaces or retires a whole disk, with everything that arrays have on it.
type DiskRequest struct {
	Old, New    string
	Retire      bool   // copy what is on it first; otherwise rebuild it from the others
	Like        string // the disk whose partition table the new one gets; none: the old one's, or a disk with the same arrays
	CopyOthers  bool   // copy partitions that no array has, byte for byte
	Grow        bool   // the last partition takes the rest of a larger disk
	Force       bool   // although members on it still work
	AlthoughBad bool
	DryRun      bool
}

// DiskReply says what is, or would be, done.
type DiskReply struct {
	Old    string       `json:"old"`
	New    DiskInfo     `json:"new"`
	Like   string       `json:"partition_table_from,omitempty"`
	Parts  []PartOfDisk `json:"parts"`  // members, in the order in which they are repaired
	Others []string     `json:"others"` // partitions that no array has, in words
	Notes  []string     `json:"notes,omitempty"`
	Stays  bool         `json:"stays"` // the service goes on by itself
}

// PartOfDisk is one member on a disk.
type PartOfDisk struct {
	Array string `json:"array"`
	Slot  int    `json:"slot"`
	Part  int    `json:"part,omitempty"` // number of the partition; 0: the whole disk
	Need  int64  `json:"need_bytes"`
}
