// Light on the clay, one program for each look; what lies beside the clay is left as it is.
// CLEAR: lights what one sees through, to be laid over what is behind it.
// LOOK: 0 clay, 1 matcap, 2 lamp, 3 sky, 4 flat, 5 planes, 6 heat, 7 contours, 8 silhouette, 9 lit, 10 how open.
// HALF: only every second pixel is worked out, each way.
#if HALF
#define SPOT (floor(gl_FragCoord.xy) * 2.0 + 0.5)
#else
#define SPOT gl_FragCoord.xy
#endif
uniform sampler2D normals;
uniform sampler2D albedos;
uniform sampler2D depths;
uniform vec2 size;
uniform vec2 corner;         // of this tile in the whole picture
uniform vec4 depth_terms;    // eye depth = (x + y * d) / (z + w * d)
uniform float pixel_scale;   // picture pixels to one pixel of a 800-pixel-high view
uniform float inverse_focus; // size in space of a pixel at depth 1 (0 when orthographic)
uniform float flat_size;     // size in space of a pixel when orthographic
uniform vec3 accent;
#if LOOK == 1
uniform sampler2D matcap;
#endif
#if (SHADOW && LOOK != 9) || LOOK == 2 || LOOK == 3
uniform vec3 lamp_way;       // towards the lamp, in the eye's space
uniform float lamp_soft;
#endif
#if LOOK == 9
uniform sampler2D materials; // roughness, metalness, subsurface, wet
uniform mat3 eye_to_scene;
uniform float sky_strength;
#include lamps
#endif
#if LOOK == 9 && CLEAR && !MOVING
uniform sampler2D under;     // codes of what is behind
uniform sampler2D behind;    // depths of that
uniform mat4 clip_from_scene;
uniform float bend_most;     // pixels
#endif
#if LOOK == 3
uniform vec3 up;             // in the eye's space
uniform vec2 slope;          // half width and half height of the picture at depth 1; 0 when orthographic
uniform vec4 stretch;        // from places in this tile to those in the whole picture: factors and what is added
uniform sampler2D materials; // roughness, metalness, subsurface, wet
#endif
#if LOOK == 5
uniform mat3 scene_from_eye;
uniform float steps;
#endif
#if LOOK == 7
uniform float band;
#endif
#if (SHADOW && LOOK != 9) || LOOK == 7
uniform mat4 scene_from_clip;
#endif
#if SHADOW && LOOK != 9
uniform sampler2D shadows;
uniform mat4 shadow_from_scene;
uniform float shadow_texel;  // size in space of a pixel of the map
uniform mat3 eye_to_scene;
#endif
out vec4 picture;

const vec3 KEY = normalize(vec3(-0.52, 0.62, 0.58));
const vec3 FILL = normalize(vec3(0.80, 0.10, 0.45));
const vec3 KEY_COLOUR = vec3(1.02, 0.975, 0.90);
const vec3 FILL_COLOUR = vec3(0.23, 0.26, 0.30);

float eye_depth(float d) {
    return (depth_terms.x + depth_terms.y * d) / (depth_terms.z + depth_terms.w * d);
}

// Gamma 2 instead of 2.2: a square root costs a tenth of a power in software.
vec3 srgb(vec3 c) { return sqrt(clamp(c, 0.0, 1.0)); }
vec3 linear(vec3 c) { return c * c; }
// A power of a whole number costs a tenth of any other in software.
float fifth(float x) { float xx = x * x; return xx * xx * x; }

#if CREASES
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
#endif

#if COVER
// Share of the sky that nearby clay covers. So many places on a spiral (Vogel, 1979), or each would show as an echo of what is covered.
const int PLACES = 18;

float cover(ivec2 at, float r, vec3 n, float depth, float unit) {
    ivec2 last = ivec2(size) - 1;
    float sum = 0.0;
    for (int i = 0; i < PLACES; ++i) {
        float angle = float(i) * 2.399963 + 0.37;
        float reach = r * sqrt((float(i) + 3.0) / float(PLACES + 2));
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
    return sum / float(PLACES);
}
#endif

#if (SHADOW && LOOK != 9) || LOOK == 7
vec3 scene_place(float d) {
    vec4 p = scene_from_clip * vec4(SPOT / size * 2.0 - 1.0, d * 2.0 - 1.0, 1.0);
    return p.xyz / p.w;
}
#endif

#if SHADOW && LOOK != 9
// 1 in the light, 0 in the shadow; the softer, the wider the places that are asked lie apart.
float lit_share(vec3 place, vec3 n, float facing) {
    float lean = sqrt(max(1.0 - facing * facing, 0.0));
    vec3 lifted = place + eye_to_scene * n * shadow_texel * (1.2 + 2.2 * lean);
    vec3 at = (shadow_from_scene * vec4(lifted, 1.0)).xyz * 0.5 + 0.5;
    float texel = 1.0 / float(textureSize(shadows, 0).x);
    float wide = texel * (0.9 + lamp_soft * 14.0);
    float turn = fract(sin(dot(SPOT + corner, vec2(12.9898, 78.233))) * 43758.5453) * 6.2831853;
    float sum = 0.0;
    for (int i = 0; i < 12; ++i) {
        float angle = float(i) * 2.399963 + turn * min(lamp_soft * 2.0, 1.0);
        vec2 off = vec2(cos(angle), sin(angle)) * sqrt((float(i) + 0.5) / 12.0) * wide;
        // A wide search on a slope needs more room, or the slope shades itself.
        sum += step(at.z - length(off) * lean * 0.9, textureLod(shadows, at.xy + off, 0.0).r);
    }
    return sum / 12.0;
}
#endif

#if LOOK == 3
// A sky as a function of direction; rough surfaces see it blurred.
vec3 sky(float height, float blur) {
    vec3 zenith = vec3(0.36, 0.47, 0.62);
    vec3 horizon = vec3(0.84, 0.82, 0.78);
    vec3 earth = vec3(0.17, 0.14, 0.115);
    vec3 above = mix(horizon, zenith, smoothstep(-0.1 - blur, 0.7 + 0.6 * blur, height));
    return mix(earth, above, smoothstep(-0.06 - blur * 0.9, 0.06 + blur * 0.9, height));
}
#endif

#if LOOK == 9 && CLEAR && !MOVING
// Where on the picture is what one sees through a clear body that goes on behind its surface, as water or an eye does.
vec2 bent(vec3 place, vec3 s, vec3 v, float d) {
    vec3 goes = refract(-v, s, 1.0 / 1.376);
    float forth = max(-dot(goes, eye_to_scene * vec3(0.0, 0.0, 1.0)), 0.2);
    vec2 to = SPOT;
    for (int i = 0; i < 3; ++i) {
        float there = texelFetch(behind, ivec2(to), 0).r;
        if (there >= 1.0) return SPOT;
        float deep = max(eye_depth(there) - eye_depth(d), 0.0);
        vec4 p = clip_from_scene * vec4(place + goes * deep / forth, 1.0);
        vec2 off = (p.xy / p.w * 0.5 + 0.5) * size - SPOT;
        to = SPOT + off * min(bend_most / max(length(off), 1e-4), 1.0);
        to = clamp(to, vec2(0.5), size - 0.5);
    }
    // What lies before the surface is not seen through it.
    return texelFetch(behind, ivec2(to), 0).r > d ? to : SPOT;
}
#endif

void main() {
    ivec2 at = ivec2(SPOT);
    vec4 normal = texelFetch(normals, at, 0);
    if (normal.a < 0.5) discard;
#if LOOK == 8
    picture = vec4(0.055, 0.05, 0.046, 1.0);
#else
    vec3 n = normal.xyz;
    vec4 albedo = texelFetch(albedos, at, 0);
    vec3 clay = linear(albedo.rgb);
    float d = texelFetch(depths, at, 0).r;
    float crease = 0.0;
    float open = 1.0;
#if CREASES
    float fine = bend(at, max(1.0, pixel_scale));
    // Over three distances: over one alone, what is narrower would be seen twice.
    float far = max(2.0, 4.0 * pixel_scale);
    float broad = (bend(at, far) + bend(at, max(1.0, 0.75 * far)) + bend(at, max(1.0, 0.5 * far))) / 3.0;
    crease = clamp(fine * 0.55, -0.35, 0.22) + clamp(broad * 0.22, -0.30, 0.16);
    // At the very outline neighbours miss; fade the effect out there.
    crease *= smoothstep(0.05, 0.35, n.z);
#endif
#if COVER
    float depth = eye_depth(d);
    open = 1.0 - 0.95 * cover(at, 13.0 * pixel_scale, n, depth, inverse_focus * depth + flat_size);
#endif

    vec3 lit;
#if LOOK == 1
    vec2 spot = n.xy * 0.495 + 0.5;
    lit = linear(texture(matcap, vec2(spot.x, 1.0 - spot.y)).rgb);
    // Painted clay tints the material; unpainted clay leaves it as it is.
    lit *= clay / vec3(0.540, 0.476, 0.397);
    lit *= open * (1.0 + crease);
#elif LOOK == 2
    float facing = dot(n, lamp_way);
    float share = clamp(facing, 0.0, 1.0);
#if SHADOW
    if (share > 0.0) share *= lit_share(scene_place(d), n, facing);
#endif
    vec3 half_way = normalize(lamp_way + vec3(0.0, 0.0, 1.0));
    float shine = pow(clamp(dot(n, half_way), 0.0, 1.0), 28.0) * share * 0.10;
    vec3 light = vec3(1.75, 1.68, 1.56) * share + vec3(0.040, 0.043, 0.05) * (0.7 + 0.3 * n.y);
    lit = clay * light * open * (1.0 + crease) + shine;
#elif LOOK == 3
    vec2 ndc = (SPOT / size * 2.0 - 1.0) * stretch.xy + stretch.zw;
    vec3 v = normalize(vec3(-ndc * slope, 1.0));
    vec4 made_of = texelFetch(materials, at, 0);
    float metal = made_of.y;
    float deep = made_of.z * (1.0 - metal);
    float wet = made_of.w;
    float rough = clamp(made_of.x, 0.05, 1.0);
    // What is porous drinks water and grows darker.
    clay *= 1.0 - 0.30 * wet * rough * (1.0 - metal);
    float a = rough * rough;
    vec3 f0 = mix(vec3(0.04), clay, metal);
    vec3 base = clay * (1.0 - metal);
    float nv = clamp(dot(n, v), 0.02, 1.0);
    float facing = dot(n, lamp_way);
    float nl = clamp(facing, 0.0, 1.0);
    float share = 1.0;
#if SHADOW
    if (nl > 0.0) share = lit_share(scene_place(d), n, facing);
#endif
    // Light that goes in comes out beside: past the shadow's edge, red the farthest (Green, 2004).
    vec3 wrap = deep * vec3(0.62, 0.27, 0.17);
    vec3 reached = clamp((facing + wrap) / (1.0 + wrap), 0.0, 1.0);
    vec3 past = mix(vec3(share), pow(vec3(share), vec3(0.45, 0.80, 0.92)), deep);
    vec3 h = normalize(v + lamp_way);
    float nh = clamp(dot(n, h), 0.0, 1.0);
    float vh = clamp(dot(v, h), 0.0, 1.0);
    float spread = nh * nh * (a * a - 1.0) + 1.0;
    float facets = a * a / (3.14159 * spread * spread);
    float k = (rough + 1.0) * (rough + 1.0) / 8.0;
    float hidden = 1.0 / ((nv * (1.0 - k) + k) * (max(nl, 0.001) * (1.0 - k) + k));
    float graze = pow(1.0 - vh, 5.0);
    vec3 fresnel = f0 + (1.0 - f0) * graze;
    vec3 sun = vec3(2.35, 2.2, 1.95);
    lit = sun * base * (1.0 - fresnel) / 3.14159 * 1.6 * reached * past;
    // What is mirrored comes off the surface, however clear the clay under it is.
    vec3 shine = sun * nl * share * fresnel * facets * hidden * 0.25;
    float height = dot(n, up);
    // Hollows of what light gets into are red, not black.
    vec3 around = sky(height, 1.0) * mix(vec3(open), pow(vec3(open), vec3(0.40, 0.85, 1.0)), deep);
    lit += base * around * 0.52;
    // The mirrored sky, weighted as measured materials are (Karis, 2014).
    vec3 r = reflect(-v, n);
    vec4 c = rough * vec4(-1.0, -0.0275, -0.572, 0.022) + vec4(1.0, 0.0425, 1.04, -0.04);
    float b = min(c.x * c.x, exp2(-9.28 * nv)) * c.x + c.y;
    vec2 fit = vec2(-1.04, 1.04) * b + c.zw;
    shine += sky(dot(r, up), rough) * (f0 * fit.x + fit.y) * open * open;
    // Water lies over it as a smooth coat of its own: it mirrors what it does not let through.
    float coat = wet * (0.04 + 0.96 * pow(1.0 - nv, 5.0));
    float tight = 0.018 * 0.018;
    float glint = nh * nh * (tight - 1.0) + 1.0;
    lit *= 1.0 - coat;
    shine *= 1.0 - coat;
    shine += sky(dot(r, up), 0.05) * coat * open;
    shine += sun * nl * share * wet * (0.04 + 0.96 * graze) * min(tight / (3.14159 * glint * glint), 60.0) * 0.25;
#if CLEAR
    // The way through is the longer, the more it is seen from the side.
    float hides = 1.0 - pow(1.0 - albedo.a, 1.0 / (0.2 + 0.8 * nv));
    float covers = 1.0 - (1.0 - hides) * (1.0 - clamp(max(shine.r, max(shine.g, shine.b)), 0.0, 1.0));
    lit = (lit * hides + shine) / max(covers, 1e-3);
#else
    lit += shine;
#endif
    lit *= 1.0 + crease * mix(0.6, 0.3, deep);
    // A soft shoulder keeps bright places from burning out.
    lit = lit * (1.0 + lit * 0.10) / (1.0 + lit * 0.62) * 1.18;
#elif LOOK == 9
    vec3 place = scene_place(d);
    vec3 s = eye_to_scene * n;
    vec3 v = normalize(eye_at.xyz - place * eye_at.w);
    vec4 made_of = texelFetch(materials, at, 0);
    float metal = made_of.y;
    float deep = made_of.z * (1.0 - metal);
    float wet = made_of.w;
    float rough = clamp(made_of.x, 0.05, 1.0);
    clay *= 1.0 - 0.30 * wet * rough * (1.0 - metal);
    float a = rough * rough;
    vec3 f0 = mix(vec3(0.04), clay, metal);
    float nv = clamp(dot(s, v), 0.02, 1.0);
    vec3 r = reflect(-v, s);
    // How much of an even sky is mirrored (Karis, 2014), what facets send back and forth between them included (Turquin, 2019).
    vec4 c = rough * vec4(-1.0, -0.0275, -0.572, 0.022) + vec4(1.0, 0.0425, 1.04, -0.04);
    float b = min(c.x * c.x, exp2(-9.28 * nv)) * c.x + c.y;
    vec2 fit = vec2(-1.04, 1.04) * b + c.zw;
    float once = max(fit.x + fit.y, 1e-3);
    vec3 more = 1.0 + f0 * (1.0 / once - 1.0);
    vec3 mirrored = (f0 * fit.x + fit.y) * more;
    // What is not mirrored goes in.
    vec3 base = clay * (1.0 - metal) * (1.0 - max(mirrored.r, max(mirrored.g, mirrored.b)) * (1.0 - metal));
    vec3 hollow = mix(vec3(open), pow(vec3(open), vec3(0.40, 0.85, 1.0)), deep);
    float coat = wet * (0.04 + 0.96 * fifth(1.0 - nv));
    lit = base * (sky_on(s) * sky_strength + floor_on(s)) * hollow;
    // Where the surface turns within a pixel, what it mirrors is spread, or it would sparkle (Tokuyoshi and Kaplanyan, 2019).
    vec3 turn_x = dFdx(s), turn_y = dFdy(s);
    float turns = min(0.5 * (dot(turn_x, turn_x) + dot(turn_y, turn_y)), 0.18);
    a = sqrt(clamp(a * a + turns, 0.0, 1.0));
#if MOVING
    vec3 mirror = sky_seen_fast(r, mix(rough, 0.0, coat));
    mirror = mirror * sky_strength + floor_seen(r, rough);
    vec3 shine = mirror * mirrored;
    vec3 glints = mirror * coat;
#else
    vec3 shine = (sky_seen(r, rough) * sky_strength + floor_seen(r, rough)) * mirrored * open * open;
    vec3 glints = (sky_seen(r, 0.0) * sky_strength + floor_seen(r, 0.0)) * coat * open;
#endif
#if LAMPS
    vec3 wrap = deep * vec3(0.62, 0.27, 0.17);
    for (int k = 0; k < LAMPS; ++k) {
        vec3 to;
        vec3 light = lamp_on(k, place, to);
        float facing = dot(s, to);
        float nl = clamp(facing, 0.0, 1.0);
        float share = 1.0;
#if SHADOW
        if (facing > -0.4) share = lit_share(k, place, s, facing);
#endif
        vec3 reached = clamp((facing + wrap) / (1.0 + wrap), 0.0, 1.0);
        vec3 past = mix(vec3(share), pow(vec3(share), vec3(0.45, 0.80, 0.92)), deep);
        lit += base * light * reached * past;
        vec3 h = normalize(v + to);
        float nh = clamp(dot(s, h), 0.0, 1.0);
        float graze = fifth(1.0 - clamp(dot(v, h), 0.0, 1.0));
        // A wide lamp is mirrored wide.
        float wide = min(a + 0.5 * lamp_more[k].w, 1.0);
        float spread = nh * nh * (wide * wide - 1.0) + 1.0;
        float half_rough = (rough + 1.0) * (rough + 1.0) / 8.0;
        float hidden = 1.0 / ((nv * (1.0 - half_rough) + half_rough) * (max(nl, 0.001) * (1.0 - half_rough) + half_rough));
        vec3 fresnel = (f0 + (1.0 - f0) * graze) * more;
        shine += light * nl * share * fresnel * wide * wide / (spread * spread) * hidden * 0.25;
        float tight = 0.018 + 0.5 * lamp_more[k].w;
        tight = tight * tight + turns;
        float glint = nh * nh * (tight - 1.0) + 1.0;
        glints += light * nl * share * wet * (0.04 + 0.96 * graze) * min(tight / (glint * glint), 60.0) * 0.25;
    }
#endif
    lit *= 1.0 - coat;
    shine = shine * (1.0 - coat) + glints;
#if CLEAR
    float hides = 1.0 - pow(1.0 - albedo.a, 1.0 / (0.2 + 0.8 * nv));
    float covers = 1.0 - (1.0 - hides) * (1.0 - clamp(max(shine.r, max(shine.g, shine.b)), 0.0, 1.0));
    lit = (lit * hides + shine) / max(covers, 1e-3);
#else
    lit += shine;
#endif
    lit *= 1.0 + crease * mix(0.5, 0.25, deep);
#elif LOOK == 4
    lit = clay;
#elif LOOK == 10
    lit = vec3(open);
#elif LOOK == 5
    vec3 s = scene_from_eye * n;
    vec3 plane = normalize(round(s * steps) + s * 0.02);
    vec3 e = transpose(scene_from_eye) * plane;
    float tone = clamp((dot(e, KEY) + 0.45) / 1.45, 0.0, 1.0);
    lit = clay * (vec3(1.30, 1.26, 1.18) * tone * tone + vec3(0.05, 0.055, 0.065)) * open;
#elif LOOK == 6
    // Colours stay readable: light only hints at the form.
    float tone = clamp(dot(n, KEY) * 0.5 + 0.5, 0.0, 1.0);
    lit = clay * (0.50 + 0.52 * tone) * mix(1.0, open, 0.6) * (1.0 + crease * 0.5);
#elif LOOK == 7
    float high = scene_place(d).y;
    float f = high / band;
    float pace = max(fwidth(high), 1e-9);
    float near = abs(f - round(f)) * band / pace;
    float fifth = abs(f / 5.0 - round(f / 5.0)) * band * 5.0 / pace;
    float line = max(clamp(1.5 - near, 0.0, 1.0) * 0.62, clamp(2.1 - fifth, 0.0, 1.0) * 0.9);
    // Where a line would be wider than its band, it fades.
    line *= clamp(band / pace / 3.0 - 0.4, 0.0, 1.0);
    float tone = clamp((dot(n, KEY) + 0.6) / 1.6, 0.0, 1.0);
    lit = clay * (0.35 + 0.85 * tone) * open * (1.0 + crease * 0.4);
    lit = mix(lit, vec3(0.012, 0.02, 0.018), line * 0.85);
#else
    float key = dot(n, KEY);
    float wrapped = clamp((key + 0.30) / 1.30, 0.0, 1.0);
    vec3 light = KEY_COLOUR * wrapped * wrapped * 1.18;
    light += FILL_COLOUR * clamp(dot(n, FILL) * 0.75 + 0.25, 0.0, 1.0) * 0.95;
    light += mix(vec3(0.052, 0.043, 0.036), vec3(0.125, 0.13, 0.14), n.y * 0.5 + 0.5);
    // Grazing light from behind sets the outline off the ground.
    float edge = 1.0 - clamp(n.z, 0.0, 1.0);
    light += vec3(0.30, 0.315, 0.33) * edge * edge * edge * clamp(n.y * 0.6 + 0.5, 0.0, 1.0);
    lit = clay * light * (1.0 + crease) * open;
    // The dull shine of leather-hard clay.
    vec3 half_way = normalize(KEY + vec3(0.0, 0.0, 1.0));
    float shine = clamp(dot(n, half_way), 0.0, 1.0);
    shine *= shine;
    shine *= shine;
    shine *= shine * shine; // the 12th power
    shine *= shine * 0.055;
    lit += shine * (1.0 + crease);
#endif
#if LOOK == 9
    // As bright as it is: the finish brings it to what a screen can show.
    vec3 colour = sqrt(max(lit, 0.0));
#else
    vec3 colour = srgb(lit);
#endif
#if BACKS
    if (albedo.a < 0.5) {
        float stripe = step(0.5, fract((SPOT.x + SPOT.y) / (9.0 * pixel_scale)));
        colour = mix(colour * 0.6, vec3(0.66, 0.24, 0.17), 0.35 + 0.5 * stripe);
    }
#endif
#if OUTLINE
    if (normal.a > 1.5) {
        ivec2 last = ivec2(size) - 1;
        int r = max(int(1.6 * pixel_scale), 1);
        float least = 2.0;
        least = min(least, texelFetch(normals, clamp(at + ivec2(r, 0), ivec2(0), last), 0).a);
        least = min(least, texelFetch(normals, clamp(at - ivec2(r, 0), ivec2(0), last), 0).a);
        least = min(least, texelFetch(normals, clamp(at + ivec2(0, r), ivec2(0), last), 0).a);
        least = min(least, texelFetch(normals, clamp(at - ivec2(0, r), ivec2(0), last), 0).a);
        if (least < 1.5) colour = accent;
    }
#endif
#if CLEAR
    picture = vec4(colour, 1.0) * covers;
#if LOOK == 9 && !MOVING
    // What is smooth and clear is full of water; what is rough is a thin skin, through which one sees straight.
    float bends = 1.0 - smoothstep(0.08, 0.16, made_of.x);
    if (bends > 0.0) {
        vec4 beyond = textureLod(under, bent(place, s, v, d) / size, 0.0);
        picture += vec4(beyond.rgb, 1.0) * (1.0 - covers) * bends * beyond.a;
    }
#endif
#else
    picture = vec4(colour, 1.0);
#endif
#endif
}
