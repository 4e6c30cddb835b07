// Brings a picture to the screen: mirrored, or as seen with half-closed eyes.
uniform sampler2D picture;
uniform vec2 corner;      // where on the screen
uniform vec2 size;
uniform float mirrored;
uniform float squint;     // 0, or how many pixels run together
out vec4 shown;
void main() {
    vec2 at = (gl_FragCoord.xy - corner) / size;
    if (mirrored > 0.5) at.x = 1.0 - at.x;
    if (squint <= 0.0) {
        shown = texture(picture, at);
        return;
    }
    float level = log2(squint);
    vec4 sum = vec4(0.0);
    float total = 0.0;
    for (int y = -2; y <= 2; ++y) {
        for (int x = -2; x <= 2; ++x) {
            float weight = exp(-0.45 * float(x * x + y * y));
            sum += textureLod(picture, at + vec2(x, y) * squint * 0.5 / size, level) * weight;
            total += weight;
        }
    }
    shown = sum / total;
}
