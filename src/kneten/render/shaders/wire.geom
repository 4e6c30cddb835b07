// Each edge as strong as it is long on the screen: where edges would be a pattern of dots, there are none.
layout(lines) in;
layout(line_strip, max_vertices = 2) out;
uniform vec2 half_size;
uniform vec2 fade;
out float strength;
void main() {
    vec4 a = gl_in[0].gl_Position;
    vec4 b = gl_in[1].gl_Position;
    if (min(a.w, b.w) <= 0.0) return;
    float pixels = length((a.xy / a.w - b.xy / b.w) * half_size);
    strength = clamp((pixels - fade.x) / (fade.y - fade.x), 0.0, 1.0);
    if (strength <= 0.0) return;
    gl_Position = a;
    EmitVertex();
    gl_Position = b;
    EmitVertex();
    EndPrimitive();
}
