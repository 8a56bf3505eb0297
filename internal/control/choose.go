package control

// ChooseRequest says which of some copies is the member.
type ChooseRequest struct {
	Disk  string
	Force bool // although another one is newer
}
