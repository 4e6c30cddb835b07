// The light of blocks of pixels; a single glaring one does not outshine all.
uniform sampler2D picture;
uniform int block;           // pixels across
out vec4 bright;
void main() {
    ivec2 first = ivec2(gl_FragCoord.xy) * block;
    ivec2 last = textureSize(picture, 0) - 1;
    vec3 sum = vec3(0.0);
    float total = 0.0;
    for (int y = 0; y < block; ++y) {
        for (int x = 0; x < block; ++x) {
            vec3 code = texelFetch(picture, min(first + ivec2(x, y), last), 0).rgb;
            vec3 light = code * code;
            float weight = 1.0 / (1.0 + max(light.r, max(light.g, light.b)) * 0.05);
            sum += light * weight;
            total += weight;
        }
    }
    bright = vec4(sum / total, 1.0);
}
