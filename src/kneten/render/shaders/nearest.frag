// For each block of pixels, how far the discs of what lies before the focus reach.
uniform sampler2D depths;
uniform vec4 depth_terms;    // eye depth = (x + y * d) / (z + w * d)
uniform float sharp;
uniform float wide;
uniform float most;
uniform int block;           // pixels across
out float nearest;
void main() {
    ivec2 first = ivec2(gl_FragCoord.xy) * block;
    ivec2 last = textureSize(depths, 0) - 1;
    float least = 1.0;
    for (int y = 0; y < block; ++y)
        for (int x = 0; x < block; ++x) least = min(least, texelFetch(depths, min(first + ivec2(x, y), last), 0).r);
    float depth = (depth_terms.x + depth_terms.y * least) / (depth_terms.z + depth_terms.w * least);
    nearest = depth < sharp ? min(wide * (sharp - depth) / max(depth, 1e-6), most) : 0.0;
}
