/* See runtime.h. Whatever arrives, or does not, it goes on. */
#include "runtime.h"

#include <string.h>

enum { FROM_PLANT_RESTART = 1, FROM_PLANT_LOCK_STEP = 2, FROM_PLANT_END = 4, FROM_PLANT_LIMITED = 8, FROM_PLANT_STOP = 16, FROM_PLANT_AT_ONCE = 32 };
enum { TO_PLANT_HOLDING = 1, TO_PLANT_SAFE = 2 };
enum { RECEIVED, DAMAGED, REPEATED, LATE, LOST, HELD, SAFE, REFUSED };
#ifndef HERON_RUNTIME_WHOLE
#define HERON_LIMITED_SHARE 0.25f /* of a command's range about the safe one, while authority is limited */

static const float span[HERON_OUTPUTS] = HERON_POLICY_SPAN;
#endif

static uint32_t crc32_of(const uint8_t *data, size_t length)
{
    uint32_t c = 0xFFFFFFFFu;
    size_t i;
    int k;
    for (i = 0; i < length; i++) {
        c ^= data[i];
        for (k = 0; k < 8; k++) {
            c = (c & 1u) != 0 ? 0xEDB88320u ^ (c >> 1) : c >> 1;
        }
    }
    return c ^ 0xFFFFFFFFu;
}

static uint32_t read_u32(const uint8_t *p)
{
    return (uint32_t)p[0] | (uint32_t)p[1] << 8 | (uint32_t)p[2] << 16 | (uint32_t)p[3] << 24;
}

static void write_u32(uint8_t *p, uint32_t v)
{
    p[0] = (uint8_t)(v & 0xFFu);
    p[1] = (uint8_t)(v >> 8 & 0xFFu);
    p[2] = (uint8_t)(v >> 16 & 0xFFu);
    p[3] = (uint8_t)(v >> 24 & 0xFFu);
}

#if !defined(HERON_RUNTIME_WHOLE) || HERON_SIGNALS > 0
static float read_f32(const uint8_t *p)
{
    uint32_t bits = read_u32(p);
    float value;
    memcpy(&value, &bits, sizeof value);
    return value;
}

#endif

#ifndef HERON_RUNTIME_WHOLE
static int not_finite(const uint8_t *p)
{
    return (read_u32(p) & 0x7F800000u) == 0x7F800000u;
}
#endif

static size_t answer(const heron_runtime *r, const uint8_t *head, unsigned flags, uint8_t *out)
{
    size_t at = HERON_HEAD;
    uint32_t bits;
    int i;
    memcpy(out, HERON_ANSWER, 4);
    memcpy(out + 4, head + 4, 12); /* sequence and time stamp of the sensors that are answered */
    out[16] = HERON_OUTPUTS & 0xFF;
    out[17] = HERON_OUTPUTS >> 8;
    out[18] = (uint8_t)flags;
    out[19] = 0;
#ifdef HERON_RUNTIME_WHOLE
    out[at++] = r->controller.state;
    out[at++] = r->controller.reason;
    out[at++] = r->controller.reason_index;
    out[at++] = (uint8_t)((r->controller.homed != 0 ? 1 : 0) | (r->controller.tested != 0 ? 2 : 0));
#endif
    for (i = 0; i < HERON_OUTPUTS; i++, at += 4) {
        memcpy(&bits, &r->command[i], sizeof bits);
        write_u32(out + at, bits);
    }
#if defined(HERON_RUNTIME_WHOLE) && defined(HERON_RAW_DRIVES)
    {
        static const int place[HERON_RAW_DRIVES] = HERON_RAW_DRIVE_PLACES;
        for (i = 0; i < HERON_RAW_DRIVES; i++) {
            write_u32(out + HERON_HEAD + HERON_ASKED + 4 * place[i], (uint32_t)r->raw[i]);
        }
    }
#endif
    for (i = 0; i < HERON_COUNTERS; i++, at += 4) {
        write_u32(out + at, r->counters[i]);
    }
    write_u32(out + at, crc32_of(out, at));
    return at + 4;
}

#ifdef HERON_RUNTIME_WHOLE
/* an episode begins: as after the power came on, but what homing and sign test found holds as long as the power does */
static void begin_anew(heron_runtime *r, int at_once)
{
    uint8_t homed = r->controller.homed, tested = r->controller.tested;
    float offset[HERON_SENSORS];
    memcpy(offset, r->controller.offset, sizeof offset);
    r->passed[0] += r->controller.counts.held;
    r->passed[1] += r->controller.counts.safe;
    r->passed[2] += r->controller.counts.refused;
    memset(&r->controller, 0, sizeof r->controller);
    memset(&r->signals, 0, sizeof r->signals);
    heron_controller_init(&r->controller);
    heron_signals_init(&r->signals);
    r->controller.homed = homed;
    r->controller.tested = tested;
    memcpy(r->controller.offset, offset, sizeof offset);
    if (at_once) {
        r->controller.settings.take_over = 0.0f;
    }
}
#endif

void heron_runtime_init(heron_runtime *r, int64_t sample, int64_t hold, const float *safe)
{
    memset(r, 0, sizeof *r);
    r->sample = sample;
    r->hold = hold;
#ifdef HERON_RUNTIME_WHOLE
    (void)safe; /* the controller has its own */
    begin_anew(r, 0);
#else
    memcpy(r->safe, safe, sizeof r->safe);
    memcpy(r->command, safe, sizeof r->command);
#endif
}

#ifdef HERON_RUNTIME_WHOLE
/* One sample of all of it: `values` as they came, NULL where none did. Returns the flags of the answer. */
static unsigned step_whole(heron_runtime *r, const uint8_t *values, unsigned ask, uint16_t heartbeat, int at_home)
{
    float sensors[HERON_SENSORS + 1], drives[HERON_DRIVES + 1];
    heron_controller *c = &r->controller;
    uint32_t refused = c->counts.refused;
    int i, works = c->state == HERON_LIMITED || c->state == HERON_ON;
    if (!works && (ask == HERON_ASK_LIMITED || ask == HERON_ASK_ON) && c->state != HERON_FAULT) {
        heron_signals_init(&r->signals); /* what formulas remember begins with the policy */
    }
    if (values != NULL) {
#if HERON_SIGNALS > 0
        for (i = 0; i < HERON_SIGNALS; i++) {
            r->signal[i] = read_f32(values + 4 * i);
        }
#endif
#ifdef HERON_RAW_SIGNALS
        {
            static const int place[HERON_RAW_SIGNALS] = HERON_RAW_SIGNAL_PLACES;
            int32_t raw[HERON_RAW_SIGNALS];
            for (i = 0; i < HERON_RAW_SIGNALS; i++) {
                uint32_t bits = read_u32(values + 4 * place[i]);
                memcpy(&raw[i], &bits, sizeof bits);
            }
            heron_from_raw(&r->signals, raw, r->signal);
        }
#endif
        heron_observe(&r->signals, c, r->signal, sensors);
    }
    (void)heron_controller_step(c, values != NULL ? sensors : NULL, ask, heartbeat, at_home, r->command + HERON_DRIVES);
    heron_distribute(&r->signals, c, r->signal, r->command + HERON_DRIVES, drives);
    for (i = 0; i < HERON_DRIVES; i++) {
        r->command[i] = drives[i];
    }
#ifdef HERON_RAW_DRIVES
    heron_to_raw(drives, r->raw);
#endif
    if (c->state == HERON_LIMITED || c->state == HERON_ON) {
        memcpy(r->command + HERON_DRIVES, c->given, sizeof c->given);
    }
    r->counters[HELD] = r->passed[0] + c->counts.held;
    r->counters[SAFE] = r->passed[1] + c->counts.safe;
    r->counters[REFUSED] = r->passed[2] + c->counts.refused;
    if (c->state == HERON_FAULT) {
        return TO_PLANT_HOLDING | TO_PLANT_SAFE;
    }
    return values == NULL || c->counts.refused != refused ? TO_PLANT_HOLDING : 0;
}
#else
/* 0, or 1 where an input is not finite: then the command stays */
static int compute(heron_runtime *r, const uint8_t *values)
{
    int i;
    float input[HERON_INPUTS];
    for (i = 0; i < HERON_INPUTS; i++) {
        if (not_finite(values + 4 * i)) {
            return 1;
        }
        input[i] = read_f32(values + 4 * i);
    }
#if HERON_MEMORY > 0
    return heron_policy(input, r->memory, r->command);
#else
    return heron_policy(input, r->command);
#endif
}

#endif

size_t heron_runtime_take(heron_runtime *r, const uint8_t *in, size_t got, int64_t now, uint8_t *out)
{
    uint32_t sequence;
    size_t size;
#ifdef HERON_RUNTIME_WHOLE
    unsigned flags;
#else
    int i;
#endif
    if (got != HERON_IN_SIZE || memcmp(in, HERON_SENSED, 4) != 0 || read_u32(in + got - 4) != crc32_of(in, got - 4)
        || (in[16] | in[17] << 8) != HERON_INPUTS) {
        r->counters[DAMAGED]++;
        return 0;
    }
    sequence = read_u32(in + 4);
    if (in[18] & FROM_PLANT_END) {
        r->ended = 1;
        return 0;
    }
    /* another episode, known by any of its datagrams; without a mark (0) by its first one */
    if (in[19] != 0 ? in[19] != r->episode : (in[18] & FROM_PLANT_RESTART) != 0) {
        r->begun = 0;
        r->episode = in[19];
#ifdef HERON_RUNTIME_WHOLE
        begin_anew(r, (in[18] & FROM_PLANT_AT_ONCE) != 0);
#endif
#if HERON_MEMORY > 0
        memset(r->memory, 0, sizeof r->memory);
#endif
    }
    if (in[18] & FROM_PLANT_STOP) {
#ifdef HERON_RUNTIME_WHOLE
        (void)step_whole(r, NULL, HERON_ASK_OFF, 0, 0);
#else
        memcpy(r->command, r->safe, sizeof r->command); /* whatever else it says */
        r->counters[SAFE]++;
#endif
        return answer(r, in, TO_PLANT_HOLDING | TO_PLANT_SAFE, out);
    }
    if (r->begun && sequence == r->last_sequence) {
        r->counters[REPEATED]++; /* answered again with the same command, in case the answer was lost */
        return answer(r, in, 0, out);
    }
    if (r->begun && (int32_t)(sequence - r->last_sequence) < 0) {
        r->counters[LATE]++;
        return 0;
    }
    if (r->begun) {
        r->counters[LOST] += sequence - r->last_sequence - 1u;
    }
    r->counters[RECEIVED]++;
    r->begun = r->has_peer = 1;
    memcpy(r->head, in, HERON_HEAD);
    r->last_sequence = sequence;
    r->lock_step = (in[18] & FROM_PLANT_LOCK_STEP) != 0;
#ifdef HERON_RUNTIME_WHOLE
    r->asked = in[HERON_HEAD];
    flags = step_whole(r, in + HERON_HEAD + HERON_ASKED, r->asked, (uint16_t)(in[HERON_HEAD + 2] | in[HERON_HEAD + 3] << 8), in[HERON_HEAD + 1]);
    now = heron_runtime_now();
    r->last_valid = now;
    size = answer(r, r->head, flags, out);
#else
    if (compute(r, in + HERON_HEAD) != 0) {
        r->counters[REFUSED]++; /* not finite: the last command stays, and time runs on towards the safe one */
        size = answer(r, r->head, TO_PLANT_HOLDING, out);
    } else {
        for (i = 0; (in[18] & FROM_PLANT_LIMITED) && i < HERON_OUTPUTS; i++) {
            float most = HERON_LIMITED_SHARE * span[i];
            r->command[i] = r->command[i] > r->safe[i] + most ? r->safe[i] + most
                                                              : (r->command[i] < r->safe[i] - most ? r->safe[i] - most : r->command[i]);
        }
        now = heron_runtime_now();
        r->last_valid = now;
        size = answer(r, r->head, 0, out);
    }
#endif
    r->next_own = now + r->sample + r->sample / 2;
    return size;
}

int64_t heron_runtime_wait(const heron_runtime *r, int64_t now)
{
    if (!r->has_peer || !r->begun || r->lock_step) {
        return -1;
    }
    return r->next_own <= now ? 0 : r->next_own - now;
}

size_t heron_runtime_idle(heron_runtime *r, int64_t now, uint8_t *out)
{
    unsigned flags = TO_PLANT_HOLDING;
    if (heron_runtime_wait(r, now) != 0) {
        return 0;
    }
#ifdef HERON_RUNTIME_WHOLE
    /* the controller itself holds, and then goes to its fault */
    flags = step_whole(r, NULL, r->asked, 0, 0);
#else
    if (now - r->last_valid > r->hold) {
        memcpy(r->command, r->safe, sizeof r->command);
        flags |= TO_PLANT_SAFE;
        r->counters[SAFE]++;
    } else {
        r->counters[HELD]++;
    }
#endif
    r->next_own += r->sample;
    if (r->next_own < now) {
        r->next_own = now + r->sample;
    }
    return answer(r, r->head, flags, out);
}
