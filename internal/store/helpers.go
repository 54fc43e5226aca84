package store

// maxLine bounds a text that is kept, in bytes.
const maxLine = 4_000
