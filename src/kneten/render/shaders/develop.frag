// Light to colours: bloom, balance, sharpening, the corners, the curve, the grade, a table, grain.
// MARKED: alpha says what a pixel is of, and is kept.
// CURVE: 0 neutral, 1 film, 2 soft, 3 straight.
uniform sampler2D picture;   // codes whose squares are light, multiplied by alpha
uniform vec3 balance;
uniform vec2 size;
uniform vec2 corner;         // of this tile in the whole picture
uniform vec2 whole;
uniform float pixel_scale;
#if BLOOM
uniform sampler2D spread;
uniform float bloom;
#endif
#if GRADE
uniform vec3 lift;
uniform vec3 gamma;
uniform vec3 gain;
uniform float colourful;
#endif
#if TABLE
uniform sampler3D table;
uniform float table_share;
uniform float table_steps;
#endif
uniform float sharpen;
uniform float vignette;
uniform float grain;
out vec4 developed;

const vec3 BRIGHT = vec3(0.2126, 0.7152, 0.0722);

#include curve

#if SHARPEN
float seen(ivec2 at) {
    ivec2 last = textureSize(picture, 0) - 1;
    vec3 code = texelFetch(picture, clamp(at, ivec2(0), last), 0).rgb;
    return min(sqrt(dot(code * code * balance, BRIGHT)), 1.2);
}
#endif

#if PRINT
float noise(vec2 at) { return fract(52.9829189 * fract(dot(at, vec2(0.06711056, 0.00583715)))); }
float scattered(vec2 at) { return fract(sin(dot(at, vec2(12.9898, 78.233))) * 43758.5453); }
#endif

void main() {
    ivec2 at = ivec2(gl_FragCoord.xy);
    vec4 code = texelFetch(picture, at, 0);
    float alpha = code.a;
#if !MARKED
    code.rgb /= max(alpha, 1e-4);
#endif
    vec3 light = code.rgb * code.rgb;
    vec2 place = (gl_FragCoord.xy + corner) / whole;
#if BLOOM
    light = mix(light, texture(spread, place).rgb, bloom * 0.5);
#endif
    light *= balance;
#if SHARPEN
    int r = max(int(round(pixel_scale)), 1);
    float own = seen(at);
    float around = 0.25 * (seen(at + ivec2(r, 0)) + seen(at - ivec2(r, 0)) + seen(at + ivec2(0, r)) + seen(at - ivec2(0, r)));
    float sharper = clamp((own + sharpen * (own - around)) / max(own, 1e-3), 0.5, 1.6);
    light *= sharper * sharper;
#endif
#if PRINT
    // The corners lose light by the fourth power of the cosine, as behind a wide lens.
    vec2 off = (place - 0.5) * vec2(whole.x / whole.y, 1.0) / length(vec2(whole.x / whole.y, 1.0) * 0.5);
    float inner = 1.0 / (1.0 + dot(off, off) * vignette * 1.4);
    light *= inner * inner;
#endif
    vec3 colour = sqrt(clamp(toned(light), 0.0, 1.0));
#if GRADE
    colour = pow(max(colour * gain + lift * (1.0 - colour), 0.0), gamma);
    colour = max(mix(vec3(dot(colour, BRIGHT)), colour, colourful), 0.0);
#endif
#if TABLE
    vec3 found = texture(table, clamp(colour, 0.0, 1.0) * (1.0 - 1.0 / table_steps) + 0.5 / table_steps).rgb;
    colour = mix(colour, found, table_share);
#endif
#if PRINT
    // Grains are of the film, not of the pixels: as wide in every size of the picture; strongest in middle tones.
    vec2 grains = floor((gl_FragCoord.xy + corner) / max(pixel_scale, 1.0));
    float one = scattered(grains) + scattered(grains + 17.0) + noise(grains * 1.7 + 3.0) - 1.5;
    float bright = clamp(dot(colour, BRIGHT), 0.0, 1.0);
    colour += one * grain * 0.16 * sqrt(max(bright * (1.0 - bright), 0.0));
#endif
#if MARKED
    developed = vec4(clamp(colour, 0.0, 1.0), alpha);
#else
    developed = vec4(clamp(colour, 0.0, 1.0), 1.0) * alpha;
#endif
}
