// What is bright, spread over ever wider surroundings, each as strong as the one before.
uniform sampler2D bright;
uniform vec2 size;
uniform int levels;
out vec4 spread;
void main() {
    vec2 at = gl_FragCoord.xy / size;
    vec3 sum = vec3(0.0);
    for (int level = 0; level <= levels; ++level) {
        vec2 step_ = exp2(float(level)) / size;
        // A tent, or the blocks of the smaller pictures would be seen.
        for (int y = -1; y <= 1; ++y) {
            for (int x = -1; x <= 1; ++x) {
                float weight = (x == 0 ? 0.5 : 0.25) * (y == 0 ? 0.5 : 0.25);
                sum += textureLod(bright, at + vec2(x, y) * step_, float(level)).rgb * weight;
            }
        }
    }
    spread = vec4(sum / float(levels + 1), 1.0);
}
