// For each block, the widest disc that reaches it from those around.
uniform sampler2D nearest;
uniform float block;         // pixels across
uniform int around;          // blocks that the widest disc reaches
out float reach;
void main() {
    ivec2 at = ivec2(gl_FragCoord.xy);
    ivec2 last = textureSize(nearest, 0) - 1;
    float widest = 0.0;
    for (int y = -around; y <= around; ++y) {
        for (int x = -around; x <= around; ++x) {
            float disc = texelFetch(nearest, clamp(at + ivec2(x, y), ivec2(0), last), 0).r;
            if (length(vec2(x, y)) * block <= disc + block * 1.5) widest = max(widest, disc);
        }
    }
    reach = widest;
}
