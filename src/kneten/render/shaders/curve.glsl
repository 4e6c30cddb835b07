// Curves from light to what a screen shows of it.
#if CURVE == 0
// Colours as they were painted; what is brighter than a screen goes to white (the Khronos group's neutral curve, 2024).
vec3 toned(vec3 c) {
    float low = min(c.r, min(c.g, c.b));
    c -= low < 0.08 ? low - 6.25 * low * low : 0.04;
    float peak = max(c.r, max(c.g, c.b));
    const float start = 0.76;
    if (peak < start) return max(c, 0.0);
    float room = 1.0 - start;
    float now = 1.0 - room * room / (peak + room - start);
    c *= now / peak;
    return mix(c, vec3(now), 1.0 - 1.0 / (0.15 * (peak - now) + 1.0));
}
#elif CURVE == 1
// The film academies' reference and output transforms in one (fitted by Hill, 2017).
vec3 toned(vec3 c) {
    const mat3 into = mat3(0.59719, 0.07600, 0.02840, 0.35458, 0.90834, 0.13383, 0.04823, 0.01566, 0.83777);
    const mat3 back = mat3(1.60475, -0.10208, -0.00327, -0.53108, 1.10813, -0.07276, -0.07367, -0.00605, 1.07602);
    // White clay in full light is as bright as before.
    vec3 v = into * (c * 1.6);
    vec3 a = v * (v + 0.0245786) - 0.000090537;
    vec3 b = v * (0.983729 * v + 0.4329510) + 0.238081;
    return max(back * (a / b), 0.0);
}
#elif CURVE == 2
// Bright light is pressed together by how bright it is, not colour by colour (Reinhard, 2002).
vec3 toned(vec3 c) {
    float bright = max(dot(c, vec3(0.2126, 0.7152, 0.0722)), 1e-6);
    const float white = 6.0;
    float now = bright * (1.0 + bright / (white * white)) / (1.0 + bright * 0.72);
    c *= now / bright;
    float peak = max(c.r, max(c.g, c.b));
    return peak > 1.0 ? mix(c / peak, vec3(1.0), 1.0 - 1.0 / peak) : c;
}
#else
vec3 toned(vec3 c) { return c; }
#endif
