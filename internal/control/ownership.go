package control

// HandOverRequest has another host take an array over.
type HandOverRequest struct {
	Array string `json:"array"`
	Host  string `json:"host"`
}
