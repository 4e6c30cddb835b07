// Evens the steps along edges: finds the edge's direction from luminance around a pixel and blends
// along it.
uniform sampler2D picture;
uniform vec2 size;
out vec4 polished;

float luma(vec4 c) { return dot(c.rgb, vec3(0.299, 0.587, 0.114)) + (1.0 - c.a) * 0.5; }

void main() {
    ivec2 at = ivec2(gl_FragCoord.xy);
    ivec2 last = ivec2(size) - 1;
    vec4 middle = texelFetch(picture, at, 0);
    vec4 n = texelFetch(picture, min(at + ivec2(0, 1), last), 0);
    vec4 s = texelFetch(picture, max(at - ivec2(0, 1), ivec2(0)), 0);
    vec4 e = texelFetch(picture, min(at + ivec2(1, 0), last), 0);
    vec4 w = texelFetch(picture, max(at - ivec2(1, 0), ivec2(0)), 0);
    float lm = luma(middle), ln = luma(n), ls = luma(s), le = luma(e), lw = luma(w);
    float span = max(max(ln, ls), max(le, lw)) - min(min(ln, ls), min(le, lw));
#if !SMOOTH
    span = 0.0;
#endif
    if (span < 0.07) {
        polished = middle;
        return;
    }
    // The edge runs across the gradient.
    vec2 gradient = vec2(le - lw, ln - ls);
    vec2 along = normalize(vec2(-gradient.y, gradient.x) + 1e-6);
    vec2 here = gl_FragCoord.xy;
    vec4 sum = middle * 0.32;
    float total = 0.32;
    for (int i = -2; i <= 2; ++i) {
        if (i == 0) continue;
        float weight = abs(i) == 1 ? 0.21 : 0.13;
        sum += texture(picture, (here + along * float(i)) / size) * weight;
        total += weight;
    }
    polished = sum / total;
}
