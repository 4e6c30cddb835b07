#version 330
#define WITH_CREASES CREASES
// Light on the clay: a large soft key, a cool fill, a low warm bounce, and the form's own creases.
uniform sampler2D normals;
uniform sampler2D albedos;
uniform sampler2D depths;
uniform vec2 size;
uniform vec3 ground_middle;
uniform vec3 ground_rim;
uniform vec4 depth_terms;    // eye depth = (x + y * d) / (z + w * d)
uniform float pixel_scale;   // picture pixels to one pixel of a 800-pixel-high view
uniform float inverse_focus; // size in space of a pixel at depth 1 (0 when orthographic)
uniform float flat_size;     // size in space of a pixel when orthographic
uniform float clear_ground;
out vec4 picture;

const vec3 KEY = normalize(vec3(-0.52, 0.62, 0.58));
const vec3 FILL = normalize(vec3(0.80, 0.10, 0.45));
const vec3 KEY_COLOUR = vec3(1.02, 0.975, 0.90);
const vec3 FILL_COLOUR = vec3(0.23, 0.26, 0.30);

vec3 ground(vec2 at) {
    vec2 off = (at / size - vec2(0.5, 0.54)) * vec2(max(size.x / size.y, 1.0), 1.0);
    // A slow fall from the middle; the square keeps it flat where the clay stands.
    vec3 colour = mix(ground_middle, ground_rim, min(dot(off, off) * 1.15, 1.0));
    // A pattern of half a step hides the bands that a slow gradient has in eight bits.
    float grain = fract(at.x * 0.7548776 + at.y * 0.5698403) - 0.5;
    return colour + grain / 255.0;
}

float eye_depth(float d) {
    return (depth_terms.x + depth_terms.y * d) / (depth_terms.z + depth_terms.w * d);
}

// Gamma 2 instead of 2.2: a square root costs a tenth of a power in software.
vec3 srgb(vec3 c) { return sqrt(clamp(c, 0.0, 1.0)); }
vec3 linear(vec3 c) { return c * c; }

// How the surface bends over a distance of r pixels: positive on ridges, negative in creases.
float bend(ivec2 at, float r) {
    ivec2 last = ivec2(size) - 1;
    ivec2 dx = ivec2(int(r), 0);
    ivec2 dy = ivec2(0, int(r));
    vec4 e = texelFetch(normals, clamp(at + dx, ivec2(0), last), 0);
    vec4 w = texelFetch(normals, clamp(at - dx, ivec2(0), last), 0);
    vec4 u = texelFetch(normals, clamp(at + dy, ivec2(0), last), 0);
    vec4 d = texelFetch(normals, clamp(at - dy, ivec2(0), last), 0);
    float x = (e.a > 0.5 && w.a > 0.5) ? e.x - w.x : 0.0;
    float y = (u.a > 0.5 && d.a > 0.5) ? u.y - d.y : 0.0;
    return x + y;
}

// Share of the sky that nearby clay covers: eight places on two rings.
float cover(ivec2 at, float r, vec3 n, float depth, float unit) {
    ivec2 last = ivec2(size) - 1;
    float sum = 0.0;
    for (int i = 0; i < 8; ++i) {
        float angle = (float(i) + 0.37) * 0.7853982;
        float reach = r * (i % 2 == 0 ? 0.45 : 1.0);
        vec2 way = vec2(cos(angle), sin(angle)) * reach;
        ivec2 there = clamp(at + ivec2(way), ivec2(0), last);
        float d = texelFetch(depths, there, 0).r;
        if (d >= 1.0) continue;
        float nearer = depth - eye_depth(d);
        vec3 to = vec3(way * unit, nearer);
        float far = length(to) + 1e-6;
        // What lies far in front is another body, not the flank of this crease.
        float share = max(dot(to / far, n) - 0.12, 0.0);
        sum += share * smoothstep(3.2 * r * unit, r * unit, far);
    }
    return sum / 8.0;
}

void main() {
    ivec2 at = ivec2(gl_FragCoord.xy);
    vec4 normal = texelFetch(normals, at, 0);
    if (normal.a < 0.5) {
        picture = vec4(ground(gl_FragCoord.xy), 1.0) * (1.0 - clear_ground);
        return;
    }
    vec3 n = normal.xyz;
    vec3 clay = linear(texelFetch(albedos, at, 0).rgb);

    float key = dot(n, KEY);
    float wrapped = clamp((key + 0.30) / 1.30, 0.0, 1.0);
    vec3 light = KEY_COLOUR * wrapped * wrapped * 1.18;
    light += FILL_COLOUR * clamp(dot(n, FILL) * 0.75 + 0.25, 0.0, 1.0) * 0.95;
    light += mix(vec3(0.052, 0.043, 0.036), vec3(0.125, 0.13, 0.14), n.y * 0.5 + 0.5);
    // Grazing light from behind sets the outline off the ground.
    float edge = 1.0 - clamp(n.z, 0.0, 1.0);
    light += vec3(0.30, 0.315, 0.33) * edge * edge * edge * clamp(n.y * 0.6 + 0.5, 0.0, 1.0);

    float crease = 0.0;
#if WITH_CREASES
    {
        float depth = eye_depth(texelFetch(depths, at, 0).r);
        float unit = inverse_focus * depth + flat_size;
        float fine = bend(at, max(1.0, pixel_scale));
        float broad = bend(at, max(2.0, 4.0 * pixel_scale));
        crease = clamp(fine * 0.55, -0.35, 0.22) + clamp(broad * 0.22, -0.30, 0.16);
        // At the very outline neighbours miss; fade the effect out there.
        crease *= smoothstep(0.05, 0.35, n.z);
        light *= 1.0 + crease;
        light *= 1.0 - 0.95 * cover(at, 13.0 * pixel_scale, n, depth, unit);
    }
#endif
    vec3 lit = clay * light;
    // The dull shine of leather-hard clay.
    vec3 half_way = normalize(KEY + vec3(0.0, 0.0, 1.0));
    float shine = clamp(dot(n, half_way), 0.0, 1.0);
    shine *= shine;
    shine *= shine;
    shine *= shine * shine; // the 12th power
    shine *= shine * 0.055;
    lit += shine * (1.0 + crease);
    picture = vec4(srgb(lit), 1.0);
}
