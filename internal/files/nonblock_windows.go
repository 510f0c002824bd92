package files

const nonblock = 0
