/* The reference protocol on a controller's side: what comes in a datagram, and what is answered. See docs/rollout-protocol.md.
 * No heap, no operating system; whoever includes it brings the clock and the line. */
#ifndef HERON_RUNTIME_H
#define HERON_RUNTIME_H

#ifdef HERON_RUNTIME_FIXED
#include "policy_fixed.h"
#define HERON_INPUTS HERON_FIXED_INPUTS
#define HERON_OUTPUTS HERON_FIXED_OUTPUTS
#define HERON_MEMORY HERON_FIXED_MEMORY
#else
#include "policy.h"
#define HERON_INPUTS HERON_POLICY_INPUTS
#define HERON_OUTPUTS HERON_POLICY_OUTPUTS
#define HERON_MEMORY HERON_POLICY_MEMORY
#endif

#include <stddef.h>
#include <stdint.h>

enum { HERON_HEAD = 20, HERON_COUNTERS = 8 };
#define HERON_IN_SIZE (HERON_HEAD + 4 * HERON_INPUTS + 4)
#define HERON_OUT_SIZE (HERON_HEAD + 4 * HERON_OUTPUTS + 4 * HERON_COUNTERS + 4)

typedef struct {
    int64_t sample, hold, last_valid, next_own; /* microseconds */
    uint32_t counters[HERON_COUNTERS], last_sequence;
    float command[HERON_OUTPUTS], safe[HERON_OUTPUTS];
    uint8_t head[HERON_HEAD], episode, begun, has_peer, lock_step, ended;
#if HERON_MEMORY > 0
#ifdef HERON_RUNTIME_FIXED
    int16_t memory[HERON_MEMORY];
#else
    float memory[HERON_MEMORY];
#endif
#endif
} heron_runtime;

void heron_runtime_init(heron_runtime *r, int64_t sample, int64_t hold, const float *safe);

/* A datagram came: writes the answer to `out` (HERON_OUT_SIZE bytes) and returns its size, 0 where there is none. */
size_t heron_runtime_take(heron_runtime *r, const uint8_t *in, size_t got, int64_t now, uint8_t *out);

/* Microseconds until something has to be sent unasked; -1: not before a datagram comes. */
int64_t heron_runtime_wait(const heron_runtime *r, int64_t now);

/* Nothing came in that time: the same as above, with the last command held or the safe one. */
size_t heron_runtime_idle(heron_runtime *r, int64_t now, uint8_t *out);

/* The clock of whoever includes it, in microseconds, for the time that a command took. */
int64_t heron_runtime_now(void);

#endif
