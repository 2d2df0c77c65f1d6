/* The reference protocol on a controller's side: what comes in a datagram, and what is answered. See docs/rollout-protocol.md.
 * No heap, no operating system; whoever includes it brings the clock and the line. */
#ifndef HERON_RUNTIME_H
#define HERON_RUNTIME_H

#if defined(HERON_RUNTIME_WHOLE)
/* the whole controller: signals of instruments in, values of drives out, with its guards and states */
#include "signals.h"
#define HERON_INPUTS HERON_SIGNALS
#define HERON_OUTPUTS (HERON_DRIVES + HERON_COMMANDS) /* and what the policy commands, to compare */
#define HERON_SAFE HERON_COMMANDS
#define HERON_MEMORY 0
#define HERON_SENSED "PHI1"
#define HERON_ANSWER "PHD1"
enum { HERON_ASKED = 4 }; /* bytes after the head: the state that is asked for, or the one that it is in */
#else
#include "policy.h"
#define HERON_INPUTS HERON_POLICY_INPUTS
#define HERON_OUTPUTS HERON_POLICY_OUTPUTS
#define HERON_MEMORY HERON_POLICY_MEMORY
#endif
#ifndef HERON_RUNTIME_WHOLE
#define HERON_SENSED "PHS1"
#define HERON_ANSWER "PHC1"
#define HERON_SAFE HERON_OUTPUTS
enum { HERON_ASKED = 0 };
#endif

#include <stddef.h>
#include <stdint.h>

enum { HERON_HEAD = 20, HERON_COUNTERS = 8 };
#define HERON_IN_SIZE (HERON_HEAD + HERON_ASKED + 4 * HERON_INPUTS + 4)
#define HERON_OUT_SIZE (HERON_HEAD + HERON_ASKED + 4 * HERON_OUTPUTS + 4 * HERON_COUNTERS + 4)

typedef struct {
    int64_t sample, hold, last_valid, next_own; /* microseconds */
    uint32_t counters[HERON_COUNTERS], last_sequence;
    float command[HERON_OUTPUTS], safe[HERON_SAFE];
#ifdef HERON_RUNTIME_WHOLE
    heron_controller controller;
    heron_signals_state signals;
    float signal[HERON_SIGNALS + 1];
    uint32_t passed[3]; /* held, safe and refused of episodes before */
#ifdef HERON_RAW_DRIVES
    int32_t raw[HERON_RAW_DRIVES];
#endif
#endif
    uint8_t head[HERON_HEAD], asked, episode, begun, has_peer, lock_step, ended;
#if HERON_MEMORY > 0
    float memory[HERON_MEMORY];
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
