// What a mesh is too coarse for of the grain on it: the same patterns as the form has, worked out for each pixel.
// GRAINS: how many there are; KIND0 to KIND3: of which kinds; COLUMN0 to COLUMN3: which of the covers are theirs.
uniform vec4 grain_lie[4];     // scale, cosine and sine of the turn, roughness
uniform vec4 grain_high[4];    // height, share of it that the form has, octaves that the form has, pixels per scale
uniform vec4 grain_picture[4]; // aspect, mean, least, greatest
uniform vec4 grain_edge[4];    // of a press: mipmap that the form has; 1 where it is strewn; 1 where it is mirrored
uniform int grain_seed[4];
uniform sampler2D curves;      // a row for each
uniform sampler2D presses[4];
in vec3 place;
in vec3 seat;
in vec3 seat_normal;
in vec4 cover;

uint mixed(ivec3 at, int seed) {
    uint h = uint(at.x) * 73856093u ^ uint(at.y) * 19349663u ^ uint(at.z) * 83492791u ^ uint(seed) * 2654435761u;
    h ^= h >> 16;
    h *= 0x85EBCA6Bu;
    h ^= h >> 13;
    h *= 0xC2B2AE35u;
    return h ^ (h >> 16);
}
float slope(uint h, vec3 p) {
    h &= 15u;
    float u = h < 8u ? p.x : p.y;
    float v = h < 4u ? p.y : (h == 12u || h == 14u ? p.x : p.z);
    return ((h & 1u) == 0u ? u : -u) + ((h & 2u) == 0u ? v : -v);
}
float noise(vec3 p, int seed) {
    vec3 whole = floor(p);
    ivec3 cell = ivec3(whole);
    p -= whole;
    vec3 t = p * p * p * (p * (p * 6.0 - 15.0) + 10.0);
    float total = 0.0;
    for (int corner = 0; corner < 8; corner++) {
        ivec3 to = ivec3(corner & 1, (corner >> 1) & 1, corner >> 2);
        vec3 share = mix(1.0 - t, t, vec3(to));
        total += share.x * share.y * share.z * slope(mixed(cell + to, seed), p - vec3(to));
    }
    return total;
}
vec2 strewn_points(vec3 p, int seed, out uint which) {
    vec3 whole = floor(p);
    float first = 1e9, second = 1e9;
    which = 0u;
    for (int a = -1; a < 2; a++) for (int b = -1; b < 2; b++) for (int c = -1; c < 2; c++) {
        ivec3 cell = ivec3(whole) + ivec3(a, b, c);
        uint h = mixed(cell, seed);
        vec3 chance = vec3(h & 1023u, (h >> 10) & 1023u, (h >> 20) & 1023u) / 1023.0;
        vec3 off = whole + vec3(a, b, c) + 0.15 + 0.7 * chance - p;
        float far = dot(off, off);
        if (far < first) { second = first; first = far; which = h; }
        else if (far < second) second = far;
    }
    return sqrt(vec2(first, second));
}
// The height of a pattern, and what the first `held` octaves of it are.
vec2 uneven(int kind, vec3 p, int seed, float roughness, int held, float wide) {
    float freq = 1.0;
    if (kind == 6) { p.xz /= 0.14; freq = 1.0 / 0.14; }
    else p = vec3(0.8 * p.x - 0.48 * p.y + 0.36 * p.z, 0.6 * p.x + 0.64 * p.y - 0.48 * p.z, 0.6 * p.y + 0.8 * p.z);
    if (kind == 4) { p *= 1.7; freq = 1.7; }
    p += vec3(0.37, 0.41, 0.29);
    // What is finer than pixels are wide is left out.
    if (kind == 3 || kind == 4 || kind == 5) {
        if (roughness > 0.0) {
            float shift = 0.25 * roughness;
            p.x += shift * noise(p * 2.3, seed + 11);
            p.y += shift * noise(p * 2.3, seed + 12);
        }
        uint which;
        vec2 near = strewn_points(p, seed, which);
        float fade = 1.0 - smoothstep(0.25, 0.6, wide * freq * 1.5);
        float h;
        if (kind == 3) { float gap = min((near.y - near.x) / 0.45, 1.0); h = gap * (2.0 - gap); }
        else if (kind == 4) {
            float t = min(near.x / (0.2 + 0.25 * float(which & 255u) / 255.0), 1.0);
            h = -(0.5 + 0.5 * float((which >> 8) & 255u) / 255.0) * (1.0 - t * t * (3.0 - 2.0 * t));
        } else { float t = min((near.y - near.x) / 0.16, 1.0); h = -(1.0 - t) * (1.0 - t); }
        return vec2(h * fade, h);
    }
    float total = 0.0, share = 1.0, shares = 0.0, part = 0.0;
    for (int octave = 0; octave < 5; octave++) {
        float n = noise(p, seed + 31 * octave);
        if (kind == 1) { n = 1.0 - min(2.0 * abs(n), 1.0); n *= n; }
        else if (kind == 2) { n = min(2.0 * abs(n), 1.0); n *= 2.0 - n; }
        float fade = 1.0 - smoothstep(0.25, 0.6, wide * freq);
        total += share * n * fade;
        shares += share;
        if (octave + 1 == held) part = total / shares;
        share *= roughness;
        p = p * 2.03 + vec3(17.3, 5.1, 9.7);
        freq *= 2.03;
    }
    total /= shares;
    if (kind == 1 || kind == 2) return vec2(total, part);
    return clamp(1.6 * vec2(total, part), -1.0, 1.0);
}
vec2 chance2(ivec2 at, int seed) {
    uint h = mixed(ivec3(at, 7), seed);
    return vec2(h & 0xFFFFu, h >> 16) / 65536.0;
}
// A press at a place of clay: as fine as the picture shows it, and as the form has it.
vec2 laid(sampler2D picture, vec3 p, vec3 n, vec4 lie, vec4 limits, vec4 edge, int seed, float fine) {
    vec3 shares = pow(max(abs(n) - 0.2, 0.0), vec3(3.0));
    float all_shares = shares.x + shares.y + shares.z;
    if (all_shares <= 0.0) return vec2(0.0);
    shares /= all_shares;
    vec2 total = vec2(0.0);
    float squares = 0.0;
    for (int way = 0; way < 3; way++) {
        float share = shares[way];
        vec2 pq = way == 0 ? p.zy : way == 1 ? p.xz + vec2(0.37, 0.61) : p.xy + vec2(0.71, 0.23);
        float u = pq.x * lie.y + pq.y * lie.z;
        float v = (pq.y * lie.y - pq.x * lie.z) * limits.x;
        vec2 at = vec2(u, -v);
        if (edge.y < 0.5) {
            total += share * (vec2(textureLod(picture, at, fine).r, textureLod(picture, at, edge.x).r) - limits.y);
            squares += share * share;
            continue;
        }
        float a = 2.0 * (u - v / sqrt(3.0)), b = 4.0 * v / sqrt(3.0);
        ivec2 cell = ivec2(floor(vec2(a, b)));
        a -= floor(a);
        b -= floor(b);
        float c = 1.0 - a - b;
        for (int corner = 0; corner < 3; corner++) {
            ivec2 to = c > 0.0 ? (corner == 0 ? ivec2(0) : corner == 1 ? ivec2(1, 0) : ivec2(0, 1))
                               : (corner == 0 ? ivec2(1) : corner == 1 ? ivec2(1, 0) : ivec2(0, 1));
            float held = c > 0.0 ? (corner == 0 ? c : corner == 1 ? a : b)
                                 : (corner == 0 ? -c : corner == 1 ? 1.0 - b : 1.0 - a);
            held = held * held * held;
            vec2 piece = at + chance2(cell + to, seed + 5 * way);
            total += share * held * (vec2(textureLod(picture, piece, fine).r, textureLod(picture, piece, edge.x).r) - limits.y);
            squares += share * share * held * held;
        }
    }
    return squares <= 0.0 ? vec2(0.0) : clamp(limits.y + total / sqrt(squares), limits.z, limits.w);
}
float bent(float h, int row) {
    float high = texture(curves, vec2((min(abs(h), 1.0) * 256.0 + 0.5) / 257.0, (float(row) + 0.5) / 4.0)).r;
    return h < 0.0 ? -high : high;
}
float residue(int kind, int row, sampler2D picture, float covered) {
    vec4 lie = grain_lie[row], high = grain_high[row], limits = grain_picture[row], edge = grain_edge[row];
    vec3 p = seat / lie.x;
    if (edge.z > 0.5) p.x = abs(p.x);
    float wide = length(fwidth(p));
    vec2 h = kind == 7
        ? laid(picture, p, seat_normal, lie, limits, edge, grain_seed[row], max(log2(max(wide * high.w, 1e-6)), 0.0))
        : uneven(kind, vec3(p.x * lie.y + p.y * lie.z, p.y * lie.y - p.x * lie.z, p.z), grain_seed[row], lie.w, int(high.z), wide);
    return covered * high.x * (bent(h.x, row) - high.y * bent(h.y, row));
}
// Which way a surface faces on which all this stands (Mikkelsen 2010, "Bump mapping unparametrized surfaces on the GPU").
vec3 grained(vec3 n) {
    float h = residue(KIND0, 0, presses[0], cover[COLUMN0]);
#if GRAINS > 1
    h += residue(KIND1, 1, presses[1], cover[COLUMN1]);
#endif
#if GRAINS > 2
    h += residue(KIND2, 2, presses[2], cover[COLUMN2]);
#endif
#if GRAINS > 3
    h += residue(KIND3, 3, presses[3], cover[COLUMN3]);
#endif
    vec3 across = dFdx(place), up = dFdy(place);
    vec3 one = cross(up, n), two = cross(n, across);
    float size = dot(across, one);
    vec3 lean = sign(size) * (dFdx(h) * one + dFdy(h) * two);
    return normalize(abs(size) * n - lean);
}
