// Brings colours that were worked out for every second pixel to all.
uniform sampler2D few;
uniform vec2 pixel;          // 1 over the size of the few
out vec4 picture;
void main() {
    // Every second pixel lies on one of the few, the others between them.
    picture = vec4(textureLod(few, (floor(gl_FragCoord.xy) * 0.5 + 0.5) * pixel, 0.0).rgb, 1.0);
}
