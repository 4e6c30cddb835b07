// What is out of focus becomes a disc: each pixel gathers from those whose discs reach it.
uniform sampler2D picture;   // codes, multiplied by alpha
uniform sampler2D depths;
uniform vec4 depth_terms;    // eye depth = (x + y * d) / (z + w * d)
uniform float sharp;         // mm before the eye
uniform float wide;          // pixels of a disc's radius, times sharp, at no depth and at twice that
uniform float most;          // pixels
uniform sampler2D reaches;   // for blocks, how far discs of what is nearer may come from
uniform int block;
uniform vec2 corner;         // of this tile in the whole picture
out vec4 blurred;

const int PLACES = 44;

float eye_depth(float d) {
    return (depth_terms.x + depth_terms.y * d) / (depth_terms.z + depth_terms.w * d);
}

float disc(float depth) { return min(wide * abs(depth - sharp) / max(depth, 1e-6), most); }

vec4 light(vec4 codes) { return vec4(codes.rgb * codes.rgb / max(codes.a, 1e-4), codes.a); }

void main() {
    ivec2 at = ivec2(gl_FragCoord.xy);
    ivec2 last = textureSize(picture, 0) - 1;
    float depth = eye_depth(texelFetch(depths, at, 0).r);
    float own = disc(depth);
    vec4 middle = texelFetch(picture, at, 0);
    // What lies before all may spread over what is sharp.
    float reach = max(own, texelFetch(reaches, min(at / block, textureSize(reaches, 0) - 1), 0).r);
    if (reach < 0.6) {
        blurred = middle;
        return;
    }
    float spin = fract(52.9829189 * fract(dot(gl_FragCoord.xy + corner, vec2(0.06711056, 0.00583715)))) * 6.2831853;
    vec4 here = light(middle), before = vec4(0.0);
    float shares = 1.0, covers = 0.0;
    for (int i = 0; i < PLACES; ++i) {
        float angle = float(i) * 2.399963 + spin;
        float far = sqrt((float(i) + 0.5) / float(PLACES)) * reach;
        ivec2 there = clamp(at + ivec2(round(vec2(cos(angle), sin(angle)) * far)), ivec2(0), last);
        float d = eye_depth(texelFetch(depths, there, 0).r);
        float other = disc(d);
        vec4 found = light(texelFetch(picture, there, 0));
        // What is nearer and wider spreads over what is here, the thinner, the wider it is.
        if (d < depth && other > own + 0.5) {
            float weight = smoothstep(far - 1.0, far + 0.5, other) * (reach * reach) / (other * other);
            before += found * weight;
            covers += weight;
            continue;
        }
        // What lies behind is seen through what is out of focus, and does not spread over what is sharp.
        float weight = smoothstep(far - 1.0, far + 0.5, d > depth ? own : min(other, own + 0.5));
        here += found * weight;
        shares += weight;
    }
    vec4 sum = mix(here / shares, before / max(covers, 1e-4), clamp(covers / float(PLACES), 0.0, 1.0));
    blurred = vec4(sqrt(max(sum.rgb * sum.a, 0.0)), sum.a);
}
