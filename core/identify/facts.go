package identify

// The facts that rules rest on are documented by the protocols that give them.
import _ "airdrift/core/probe"
