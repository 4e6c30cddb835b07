// Brings light that was worked out for every second pixel to all that clay covers.
uniform sampler2D few;
uniform sampler2D normals;
out vec4 picture;
void main() {
    ivec2 at = ivec2(gl_FragCoord.xy);
    if (texelFetch(normals, at, 0).a < 0.5) discard;
    ivec2 last = textureSize(few, 0) - 1;
    ivec2 low = at / 2;
    // Between the four around it, those beside the clay left out.
    ivec2 aside = ivec2((at.x & 1) == 1 ? 1 : 0, (at.y & 1) == 1 ? 1 : 0);
    vec4 sum = texelFetch(few, min(low, last), 0);
    sum += texelFetch(few, min(low + ivec2(aside.x, 0), last), 0);
    sum += texelFetch(few, min(low + ivec2(0, aside.y), last), 0);
    sum += texelFetch(few, min(low + aside, last), 0);
    if (sum.a < 0.2) {
        // A thin thing that every second pixel misses.
        sum += texelFetch(few, clamp(low + ivec2(1, 0), ivec2(0), last), 0) + texelFetch(few, clamp(low - ivec2(1, 0), ivec2(0), last), 0);
        sum += texelFetch(few, clamp(low + ivec2(0, 1), ivec2(0), last), 0) + texelFetch(few, clamp(low - ivec2(0, 1), ivec2(0), last), 0);
    }
    picture = sum.a > 0.0 ? vec4(sum.rgb / sum.a, 1.0) : vec4(0.0, 0.0, 0.0, 1.0);
}
