/* The hoist's equations of motion written out by hand, stepped by the semi-implicit rule: the yardstick for speed.
 * Trolley x, cable angle a (basket seaward positive), cable length l; load with its own inertia; quadratic wind drag. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

int main(int argc, char **argv)
{
    const long steps = argc > 1 ? atol(argv[1]) : 20000000;
    const double M = 120.0, m = 50.0, mc = 2.0, zc = 0.3, zb = 0.45, Jc = 0.06, Jb = 4.2, g = 9.81, h = 0.004;
    const double dx = 40.0, da = 6.0, dl = 20.0, gain = 3000.0, ki = 6000.0, area = 0.9, rho = 1.225;
    double x = 0, a = 0.1, l = 4, vx = 0, va = 0, vl = 0, push = 0, reel = 0, integral = -m * g / ki;
    const double lag1 = 1 - exp(-h / 0.06), lag2 = 1 - exp(-h / 0.12);
    struct timespec t0, t1;
    long k;
    clock_gettime(CLOCK_MONOTONIC, &t0);
    for (k = 0; k < steps; k++) {
        push += ((k & 1024 ? 200.0 : -200.0) - push) * lag1;
        reel += (0.0 - reel) * lag2;
        integral += h * (reel - vl);
        const double s = sin(a), c = cos(a), r = l + zb;
        const double first = m * r + mc * zc, about = m * r * r + mc * zc * zc + Jb + Jc;
        /* symmetric mass matrix of (x, a, l) */
        const double m11 = M + m + mc, m12 = first * c, m13 = m * s, m22 = about + h * da, m33 = m + h * (dl + gain);
        const double wx = 1.0 - (vx + r * va * c + vl * s), wz = -(r * va * s - vl * c);
        const double k1 = 0.5 * rho * area * sqrt(wx * wx + wz * wz);
        const double fx = k1 * wx, fz = k1 * wz;
        const double b1 = push - dx * vx + first * s * va * va - 2 * m * c * va * vl + fx;
        const double b2 = -da * va - first * g * s - 2 * m * r * va * vl + r * (fx * c + fz * s);
        const double b3 = -dl * vl + gain * (reel - vl) + ki * integral + m * r * va * va + m * g * c + fx * s - fz * c;
        /* elimination */
        const double d1 = m11 + h * dx, l21 = m12 / d1, l31 = m13 / d1;
        const double d2 = m22 - l21 * m12, e32 = -l31 * m12, l32 = e32 / d2, d3 = m33 - l31 * m13 - l32 * e32;
        const double y2 = b2 - l21 * b1, y3 = b3 - l31 * b1 - l32 * y2;
        const double al = y3 / d3, aa = y2 / d2 - l32 * al, ax = b1 / d1 - l21 * aa - l31 * al;
        vx += h * ax;
        va += h * aa;
        vl += h * al;
        x += h * vx;
        a += h * va;
        l += h * vl;
    }
    clock_gettime(CLOCK_MONOTONIC, &t1);
    printf("%.3f %.9f\n", ((t1.tv_sec - t0.tv_sec) * 1e9 + (t1.tv_nsec - t0.tv_nsec)) / (double)steps, x + a + l);
    return 0;
}
