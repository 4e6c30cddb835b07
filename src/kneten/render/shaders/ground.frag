// LIT: 1 lamps and sky light the floor, 2 the sky is seen behind it, too, 3 a sweep stands there.
// What lies behind the clay: a calm tone that darkens towards the rim; on demand a floor with a grid.
// HALF: only every second pixel is worked out, each way; alpha says that it is not clay.
#if HALF
#define SPOT (floor(gl_FragCoord.xy) * 2.0 + 0.5)
#else
#define SPOT gl_FragCoord.xy
#endif
uniform vec2 size;
uniform vec2 corner;         // of this tile in the whole picture
uniform vec2 whole;
uniform vec3 ground_middle;
uniform vec3 ground_rim;
uniform float clear_ground;
#if LIT
uniform float sky_strength;
uniform float sky_blur;
#include lamps
#endif
#if LIT == 3
uniform vec3 sweep_middle;   // on the floor
uniform vec2 sweep_back;     // the level way to the wall
uniform vec2 sweep_wall;     // how far it is, radius of the bend
uniform vec3 sweep_tone;
#endif
#if FLOOR
#if !LIT
uniform mat4 scene_from_clip;
#endif
uniform float floor_grid;    // how much of it is seen
uniform vec3 floor_line;
uniform vec4 floor_place;    // height, middle x, middle z, half width of the map
uniform float floor_step;    // between two lines of the grid
uniform float floor_high;    // height that the map covers
#if MIRROR
uniform sampler2D mirrored;  // what the floor mirrors, upside down; codes, multiplied by alpha
uniform float mirror_share;
uniform float shadow_share;  // whether it shows shadows, too
#endif
uniform sampler2D heights;   // 0 where clay touches the floor, 1 where there is none above
#endif
out vec4 picture;

vec3 ground(vec2 at) {
    vec2 off = ((at + corner) / whole - vec2(0.5, 0.54)) * vec2(max(whole.x / whole.y, 1.0), 1.0);
    // A slow fall from the middle; the square keeps it flat where the clay stands.
    vec3 colour = mix(ground_middle, ground_rim, min(dot(off, off) * 1.15, 1.0));
    // A pattern of half a step hides the bands that a slow gradient has in eight bits.
    float grain = fract(at.x * 0.7548776 + at.y * 0.5698403) - 0.5;
    return colour + grain / 255.0;
}

#if FLOOR || LIT == 3
// Where sight begins, as a share of the way from the nearest clay to the farthest: ground lies before the nearest, too.
float sight_begins(vec4 nearest, vec4 farthest) {
    return max(-farthest.w / max(nearest.w - farthest.w, 1e-12), -100.0);
}
#endif

#if FLOOR
float lines(vec2 at, float step) {
    vec2 across = at / step;
    vec2 wide = max(fwidth(across), 1e-5);
    vec2 off = abs(fract(across - 0.5) - 0.5) / wide;
    // Lines closer than a few pixels would be a grey field.
    vec2 fade = clamp(0.25 / wide - 0.6, 0.0, 1.0);
    vec2 line = clamp(1.2 - off, 0.0, 1.0) * fade;
    return max(line.x, line.y);
}
#endif

#if LIT
// The light that the neutral curve shows as a colour: what lies behind comes out as it was chosen.
vec3 untoned(vec3 code) {
    vec3 c = code * code;
    float low = min(c.r, min(c.g, c.b));
    return sqrt(c + (low < 0.04 ? sqrt(low / 6.25) - low : 0.04));
}
#endif

#if LIT == 3
// Where a ray meets the sweep, and which way that faces; false where it goes by.
bool on_sweep(vec3 eye, vec3 way, out vec3 spot, out vec3 n) {
    // Across the wall nothing changes: all happens between the way to it and up.
    vec2 from = vec2(dot(eye.xz - sweep_middle.xz, sweep_back), eye.y - sweep_middle.y);
    vec2 goes = vec2(dot(way.xz, sweep_back), way.y);
    float t = -1.0;
    if (goes.y < 0.0) {
        t = -from.y / goes.y;
        n = vec3(0.0, 1.0, 0.0);
        if (t > 0.0 && from.x + t * goes.x > sweep_wall.x - sweep_wall.y) t = -1.0;
    }
    if (t <= 0.0 && goes.x > 0.0) {
        t = (sweep_wall.x - from.x) / goes.x;
        n = vec3(-sweep_back.x, 0.0, -sweep_back.y);
        if (t > 0.0 && from.y + t * goes.y < sweep_wall.y) {
            vec2 off = from - vec2(sweep_wall.x - sweep_wall.y, sweep_wall.y);
            float a = dot(goes, goes), b = dot(off, goes), c = dot(off, off) - sweep_wall.y * sweep_wall.y;
            float root = b * b - a * c;
            if (root < 0.0) return false;
            t = (-b + sqrt(root)) / a;
            vec2 out_ = -(off + t * goes) / sweep_wall.y;
            n = vec3(sweep_back.x * out_.x, out_.y, sweep_back.y * out_.x);
        }
    }
    spot = eye + t * way;
    return t > 0.0;
}
#endif

void main() {
    vec3 colour = ground(SPOT);
#if LIT
    colour = untoned(colour);
#endif
    float alpha = 1.0 - clear_ground;
#if LIT == 2
    vec3 beyond = scene_place(1.0);
    vec3 sight = eye_at.w > 0.5 ? beyond - eye_at.xyz : -eye_at.xyz;
    colour = sqrt(max(sky_seen(normalize(sight), sky_blur) * sky_strength, 0.0));
#endif
#if LIT == 3
    vec2 seen_at = SPOT / size * 2.0 - 1.0;
    vec4 nearest = scene_from_clip * vec4(seen_at, -1.0, 1.0), farthest = scene_from_clip * vec4(seen_at, 1.0, 1.0);
    vec3 sight_on = farthest.xyz / farthest.w - nearest.xyz / nearest.w, hit, faces;
    vec3 sight_from = nearest.xyz / nearest.w + sight_on * sight_begins(nearest, farthest);
    bool swept = on_sweep(sight_from, normalize(sight_on), hit, faces);
    if (swept) {
        vec3 falls = sky_on(faces) * sky_strength;
#if LAMPS
        for (int k = 0; k < LAMPS; ++k) {
            vec3 to;
            vec3 light = lamp_on(k, hit, to) * max(dot(faces, to), 0.0);
#if SHADOW
            if (dot(faces, to) > 0.01) light *= lit_share(k, hit, faces, dot(faces, to));
#endif
            falls += light;
        }
#endif
        colour = sqrt(sweep_tone * falls);
    }
#endif
#if FLOOR
    vec2 at = SPOT / size * 2.0 - 1.0;
    vec4 first = scene_from_clip * vec4(at, -1.0, 1.0);
    vec4 last = scene_from_clip * vec4(at, 1.0, 1.0);
    vec3 eye = first.xyz / first.w;
    vec3 way = last.xyz / last.w - eye;
    float t = (floor_place.x - eye.y) / (abs(way.y) > 1e-12 ? way.y : 1e-12);
    vec3 spot = eye + way * t;
    vec2 from = (spot.xz - floor_place.yz) / floor_place.w;
    float grid = max(lines(spot.xz, floor_step) * 0.45, lines(spot.xz, floor_step * 5.0));
    float dark = 0.0;
    for (int i = 0; i < 16; ++i) {
        float angle = float(i) * 2.399963;
        vec2 way_out = vec2(cos(angle), sin(angle)) * sqrt((float(i) + 0.5) / 16.0);
        // Near clay gives a narrow shadow, high clay a wide and weak one.
        float near = textureLod(heights, (from + way_out * 0.03) * 0.5 + 0.5, 0.0).r;
        float wide = textureLod(heights, (from + way_out * 0.16) * 0.5 + 0.5, 0.0).r;
        // Where there is none above, nothing is dark, however flat the clay is elsewhere.
        if (near < 0.999) dark += 0.55 * exp(-near * floor_high / (0.05 * floor_place.w));
        if (wide < 0.999) dark += 0.45 * exp(-wide * floor_high / (0.35 * floor_place.w));
    }
    float reach = 1.0 - smoothstep(0.9, 2.2, length(from));
    // Seen from above only; from below the floor would hide the clay.
    float seen = (t > sight_begins(first, last) && way.y < 0.0) ? reach : 0.0;
    float contact = dark / 16.0 * step(max(abs(from.x), abs(from.y)), 1.0);
    float shade = contact * 0.62;
#if LIT == 3
    // Of lamps it has its shadows already.
    shade = swept ? 1.0 - sqrt(1.0 - contact * 0.5) : 0.0;
#elif LIT && LAMPS && SHADOW
    // How much of all the light that would reach the floor does.
    vec3 all_light = sky_on(vec3(0.0, 1.0, 0.0)) * sky_strength;
    vec3 left = all_light * (1.0 - contact);
    for (int k = 0; k < LAMPS; ++k) {
        vec3 to;
        vec3 light = lamp_on(k, spot, to) * max(to.y, 0.0);
        all_light += light;
        if (to.y > 0.01) left += light * lit_share(k, spot, vec3(0.0, 1.0, 0.0), to.y);
    }
    float lost = dot(all_light - left, vec3(0.2126, 0.7152, 0.0722)) / max(dot(all_light, vec3(0.2126, 0.7152, 0.0722)), 1e-4);
    // The picture is in codes, the share in light.
    shade = 1.0 - sqrt(clamp(1.0 - lost, 0.0, 1.0));
#endif
#if MIRROR
    shade *= shadow_share;
    vec2 flipped = (SPOT + corner) / whole;
    flipped.y = 1.0 - flipped.y;
    vec4 found = textureLod(mirrored, flipped, 0.0);
    // Polished ground mirrors the more, the flatter one looks at it.
    float flat_way = 1.0 - abs(normalize(way).y);
    float gives = mirror_share * (0.25 + 0.75 * flat_way * flat_way * flat_way) * seen;
    vec3 light_there = colour * colour * (1.0 - shade * seen) * (1.0 - shade * seen) * (1.0 - gives * found.a);
    light_there += found.rgb * found.rgb / max(found.a, 1e-4) * gives;
    colour = sqrt(light_there);
    alpha = max(alpha, max(gives * found.a, shade * seen));
    shade = 0.0;
#endif
    grid *= floor_grid;
    colour = mix(colour, floor_line, grid * 0.5 * seen);
    colour *= 1.0 - shade * seen;
    alpha = max(alpha, max(grid * 0.4, shade) * seen);
#endif
#if HALF
    picture = vec4(colour, 0.0);
#else
    picture = vec4(colour, 1.0) * alpha;
#endif
}
