// Package nbd serves arrays over the network block protocol, as its public specification describes it: the fixed
// newstyle handshake, simple and structured replies, and the base:allocation metadata context.
//
//	proto.go      numbers of the protocol
//	server.go     listeners and connections
//	handshake.go  options, up to the choice of an export
//	transmit.go   requests and replies
//	shared.go     data that does not come over the connection
//
// Everything read from a connection is hostile: lengths are bounded before memory is taken, and whatever does not fit
// the protocol closes that connection and nothing else.
package nbd

// Handshake.
const (
	magicInit   = 0x4e42444d41474943 // "NBDMAGIC"
	magicOption = 0x49484156454f5054 // "IHAVEOPT"
	magicReply  = 0x0003e889045565a9

	flagFixedNewstyle = 1 << 0
	flagNoZeroes      = 1 << 1

	optExportName      = 1
	optAbort           = 2
	optList            = 3
	optInfo            = 6
	optGo              = 7
	optStartTLS        = 5
	optStructuredReply = 8
	optListMeta        = 9
	optSetMeta         = 10

	repAck         = 1
	repServer      = 2
	repInfo        = 3
	repMetaContext = 4
	repErrUnsup    = 1<<31 + 1
	repErrTLSReqd  = 1<<31 + 5
	repErrInvalid  = 1<<31 + 3
	repErrUnknown  = 1<<31 + 6
	repErrTooBig   = 1<<31 + 9

	infoExport    = 0
	infoName      = 1
	infoBlockSize = 3
	infoShared    = 0x6e64 // ours: data need not come over the connection, see Memory
)

// Transmission.
const (
	magicRequest    = 0x25609513
	magicSimple     = 0x67446698
	magicStructured = 0x668e33ef

	txHasFlags    = 1 << 0
	txReadOnly    = 1 << 1
	txFlush       = 1 << 2
	txFUA         = 1 << 3
	txTrim        = 1 << 5
	txWriteZeroes = 1 << 6
	txDF          = 1 << 7
	txMultiConn   = 1 << 8

	cmdRead        = 0
	cmdWrite       = 1
	cmdDisconnect  = 2
	cmdFlush       = 3
	cmdTrim        = 4
	cmdWriteZeroes = 6
	cmdBlockStatus = 7

	cmdFlagFUA    = 1 << 0
	cmdFlagNoHole = 1 << 1
	cmdFlagDF     = 1 << 2
	cmdFlagReqOne = 1 << 3
	cmdFlagShared = 1 << 15 // ours: the data is in shared memory, at a place that follows the request in 8 bytes

	chunkDone        = 1
	chunkNone        = 0
	chunkData        = 1
	chunkHole        = 2
	chunkBlockStatus = 5
	chunkError       = 1<<15 + 1

	stateHole = 1
	stateZero = 2

	errPerm     = 1
	errIO       = 5
	errInvalid  = 22
	errNoSpace  = 28
	errOverflow = 75
	errShutdown = 108
)

// Bounds on what a client may ask for.
const (
	maxRequest     = 32 << 20 // bytes of one read or write
	maxOption      = 64 << 10 // bytes of one option
	maxOptions     = 256      // options of one handshake
	maxName        = 4096     // bytes of an export name
	maxExtents     = 4096     // of one block status reply
	preferredBlock = 4096
)

// allocationContext is the one metadata context we have, and its number.
const (
	allocationContext = "base:allocation"
	allocationID      = 1
)
