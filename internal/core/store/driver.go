package store

// Driver names what reads and writes data files.
const Driver = "sqlite3"
