// All lamps and the sky, for programs that light by them. LAMPS: how many lamps. SHADOW: whether they cast any.
uniform mat4 scene_from_clip;
uniform vec4 eye_at;          // the eye's place and 1, or the way to it and 0
uniform sampler2D sky_levels; // one table of directions below the other, each as a rougher surface mirrors it; the last as dull clay gets it
uniform vec2 sky_turn;        // cosine and sine
uniform vec3 floor_gives;     // what the floor gives back of the lamps' light
#if LAMPS
uniform vec4 lamp_at[LAMPS];    // its place and 1, or the way to it and 0
uniform vec3 lamp_light[LAMPS];
uniform vec3 lamp_out[LAMPS];   // from where it aims to it
uniform vec4 lamp_more[LAMPS];  // distance to where it aims; cosines where a cone ends and where its edge begins; tangent of half its width
#endif
#if LAMPS && SHADOW
uniform sampler2D shadows;
uniform mat4 shadow_from_scene[LAMPS];
uniform vec4 shadow_tile[LAMPS]; // corner and size within the map
uniform vec4 shadow_deep[LAMPS]; // least and greatest depth; share of the map that a mm, or a tangent, takes; that of a pixel in the scene, or as a tangent
#endif

const float TALL = 64.0;
const float LEVELS = 6.0;

vec3 scene_place(float d) {
    vec4 p = scene_from_clip * vec4(SPOT / size * 2.0 - 1.0, d * 2.0 - 1.0, 1.0);
    return p.xyz / p.w;
}

vec3 turned(vec3 way) {
    return vec3(sky_turn.x * way.x - sky_turn.y * way.z, way.y, sky_turn.y * way.x + sky_turn.x * way.z);
}

vec3 sky_table(vec2 at, float level) {
    float row = clamp(at.y * TALL, 0.5, TALL - 0.5) / TALL;
    return textureLod(sky_levels, vec2(at.x, (level + row) / LEVELS), 0.0).rgb;
}

// Angles by polynomials, exact to a ten-thousandth of a turn (Abramowitz and Stegun, 4.4.45 and 4.4.49): those built in take twice as long in software.
vec2 sky_place(vec3 way) {
    vec3 t = turned(way);
    vec3 a = abs(t);
    float high = sqrt(max(1.0 - a.y, 0.0)) * (1.5707288 + a.y * (-0.2121144 + a.y * (0.0742610 - a.y * 0.0187293)));
    high = t.y < 0.0 ? 3.1415927 - high : high;
    float share = min(a.x, a.z) / max(max(a.x, a.z), 1e-9);
    float s = share * share;
    float turn = share * (0.9998660 + s * (-0.3302995 + s * (0.1801410 + s * (-0.0851330 + s * 0.0208351))));
    turn = a.x > a.z ? 1.5707963 - turn : turn;
    turn = t.z < 0.0 ? 3.1415927 - turn : turn;
    turn = t.x < 0.0 ? -turn : turn;
    return vec2(turn / 6.2831853 + 0.5, high / 3.1415927);
}

// What a surface of a roughness mirrors from a direction.
vec3 sky_seen(vec3 way, float rough) {
    vec2 at = sky_place(way);
    float level = rough < 0.25 ? rough / 0.25
        : rough < 0.45 ? 1.0 + (rough - 0.25) / 0.20
        : rough < 0.70 ? 2.0 + (rough - 0.45) / 0.25 : 3.0 + (rough - 0.70) / 0.30;
    level = clamp(level, 0.0, LEVELS - 2.0);
    float low = floor(level);
    return mix(sky_table(at, low), sky_table(at, min(low + 1.0, LEVELS - 2.0)), level - low);
}

#if MOVING
// The same with a step from one roughness to the next, for pictures that are gone at once.
vec3 sky_seen_fast(vec3 way, float rough) {
    return sky_table(sky_place(way), rough < 0.12 ? 0.0 : rough < 0.35 ? 1.0 : rough < 0.58 ? 2.0 : rough < 0.85 ? 3.0 : 4.0);
}
#endif

// What white clay that faces a direction gets of the sky.
vec3 sky_on(vec3 way) { return sky_table(sky_place(way), LEVELS - 1.0); }

// What white clay that faces a direction gets of the lit floor below it, and what a surface of a roughness mirrors of that.
vec3 floor_on(vec3 way) { return floor_gives * (0.5 - 0.5 * way.y); }
vec3 floor_seen(vec3 way, float rough) {
    float edge = 0.02 + 0.9 * rough;
    return floor_gives * smoothstep(edge, -edge, way.y);
}

#if LAMPS
// The light of a lamp at a place, and the way to it.
vec3 lamp_on(int k, vec3 place, out vec3 to) {
    to = lamp_at[k].xyz;
    if (lamp_at[k].w < 0.5) return lamp_light[k];
    to -= place;
    float far = length(to);
    to /= far;
    float near = lamp_more[k].x / max(far, lamp_more[k].x * 0.02);
    return lamp_light[k] * near * near * smoothstep(lamp_more[k].y, lamp_more[k].z, dot(to, lamp_out[k]));
}
#endif

#if LAMPS && SHADOW
float shadow_depth(int k, float d) {
    vec4 deep = shadow_deep[k];
    return lamp_at[k].w < 0.5 ? mix(deep.x, deep.y, d) : deep.x * deep.y / (deep.y - d * (deep.y - deep.x));
}

float shadow_read(int k, vec2 at) {
    return textureLod(shadows, shadow_tile[k].xy + clamp(at, 0.002, 0.998) * shadow_tile[k].zw, 0.0).r;
}

// 1 in the light, 0 in the shadow: the farther what casts it, the softer (Fernando, 2005).
float lit_share(int k, vec3 place, vec3 n, float facing) {
    bool near = lamp_at[k].w > 0.5;
    float lean = sqrt(max(1.0 - facing * facing, 0.0));
    float far = near ? length(lamp_at[k].xyz - place) : 1.0;
    vec3 lifted = place + n * shadow_deep[k].w * far * (1.2 + 2.4 * lean);
    vec4 p = shadow_from_scene[k] * vec4(lifted, 1.0);
    if (p.w <= 0.0) return 1.0;
    vec3 at = p.xyz / p.w * 0.5 + 0.5;
    if (any(lessThan(at.xy, vec2(0.0))) || any(greaterThan(at.xy, vec2(1.0)))) return 1.0;
    // What lies beyond the map is in the shadow of all that is on it.
    float own = near ? p.w : shadow_depth(k, at.z);
    // Nothing is mapped as the farthest there is.
    own = min(own, shadow_deep[k].y * 0.9999);
    float spread = lamp_more[k].w * (near ? lamp_more[k].x : 1.0);
    float texel = 1.0 / (float(textureSize(shadows, 0).x) * shadow_tile[k].z);
    // How wide the lamp is from here, as a share of the map, over what might cast a shadow.
    float search = near ? spread / own * shadow_deep[k].z * 0.5 : spread * (own - shadow_deep[k].x) * shadow_deep[k].z * 0.5;
    search = clamp(search, texel, 0.12);
    float spin = fract(52.9829189 * fract(dot(SPOT + corner, vec2(0.06711056, 0.00583715)))) * 6.2831853;
    // So far the surface itself comes nearer to the lamp for each share of the map that one looks aside: it does not shade itself.
    float rise = min(lean / max(facing, 0.12), 6.0) * (near ? own : 1.0) / shadow_deep[k].z;
    float sum = 0.0, count = 0.0;
    // The same places for all pixels: those that found nothing by chance would be spots of light.
    for (int i = 0; i < 9; ++i) {
        float angle = float(i) * 2.399963;
        float out_ = sqrt(float(i) / 8.0) * search;
        float found = shadow_depth(k, shadow_read(k, at.xy + vec2(cos(angle), sin(angle)) * out_));
        if (found < own - out_ * rise) { sum += found; count += 1.0; }
    }
    if (count < 0.5) return 1.0;
    float caster = sum / count;
    float wide = near ? spread * (own - caster) / max(caster, 1e-3) / own : spread * (own - caster);
    wide = clamp(wide * shadow_deep[k].z, texel * 1.3, 0.12);
    sum = 0.0;
    for (int i = 0; i < 16; ++i) {
        float angle = float(i) * 2.399963 + spin;
        float out_ = sqrt((float(i) + 0.5) / 16.0) * wide;
        float found = shadow_depth(k, shadow_read(k, at.xy + vec2(cos(angle), sin(angle)) * out_));
        sum += step(own - out_ * rise, found);
    }
    return sum / 16.0;
}
#endif
