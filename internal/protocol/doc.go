// Package protocol is the parent of the byte-level codecs. Each turns bytes
// into messages and back, and knows no sockets: the source of every format is
// the database server's own public documentation, named in each package.
package protocol
