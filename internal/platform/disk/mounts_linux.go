package disk

// mountTable is the system's own, of this process's mount namespace.
const mountTable = "/proc/self/mountinfo"
