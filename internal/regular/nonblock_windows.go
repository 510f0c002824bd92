package regular

const nonblock = 0
