/* heron_policy by the fixed-point form, for a processor without a floating-point unit: what stands around the policy stays as it is.
 * Built instead of policy.c, together with policy_fixed.c. */
#include "policy.h"
#include "policy_fixed.h"

#include <math.h>
#include <stddef.h>

#if HERON_POLICY_MEMORY > 0
int heron_policy(const float input[HERON_POLICY_INPUTS], float memory[HERON_POLICY_MEMORY], float output[HERON_POLICY_OUTPUTS])
#else
int heron_policy(const float input[HERON_POLICY_INPUTS], float output[HERON_POLICY_OUTPUTS])
#endif
{
    int32_t given[HERON_FIXED_INPUTS], made[HERON_FIXED_OUTPUTS];
    int i;
#if HERON_POLICY_MEMORY > 0
    int16_t kept[HERON_FIXED_MEMORY]; /* whole numbers of 16 bits, which single precision holds as they are */
#endif
    for (i = 0; i < HERON_FIXED_INPUTS; i++) {
        float scaled;
        if (!isfinite(input[i])) {
            return 1;
        }
        scaled = floorf(ldexpf(input[i], heron_fixed_input_bits[i]) + 0.5f);
        given[i] = scaled >= 2147483520.0f ? 2147483520 : (scaled <= -2147483520.0f ? -2147483520 : (int32_t)scaled);
    }
#if HERON_POLICY_MEMORY > 0
    for (i = 0; i < HERON_FIXED_MEMORY; i++) {
        kept[i] = (int16_t)memory[i];
    }
    heron_policy_fixed(given, kept, made, NULL);
    for (i = 0; i < HERON_FIXED_MEMORY; i++) {
        memory[i] = (float)kept[i];
    }
#else
    heron_policy_fixed(given, made, NULL);
#endif
    for (i = 0; i < HERON_FIXED_OUTPUTS; i++) {
        output[i] = ldexpf((float)made[i], -heron_fixed_output_bits[i]);
    }
    return 0;
}
