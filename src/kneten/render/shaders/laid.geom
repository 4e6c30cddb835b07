// Gives each corner its place in the picture: corners are told by the triangle, not by the vertex, which may have several.
layout(triangles) in;
layout(triangle_strip, max_vertices = 3) out;
uniform sampler2D places;    // two numbers for each corner
uniform sampler2D along;     // which way the first of them grows, and on which side the second does
uniform sampler2D tints;     // a colour for each triangle
uniform int first_triangle;
uniform mat3 eye_from_part;
in vec3 own_normal[];
in vec4 own_colour[];
out vec3 eye_normal;
out vec3 albedo;
out float masked;
out vec2 uv;
out vec4 tangent;
flat out vec4 tint;
ivec2 spot(int number) {
    int wide = textureSize(places, 0).x;
    return ivec2(number % wide, number / wide);
}
void main() {
    int triangle = first_triangle + gl_PrimitiveIDIn;
    int across = textureSize(tints, 0).x;
    vec4 own = texelFetch(tints, ivec2(triangle % across, triangle / across), 0);
    for (int k = 0; k < 3; k++) {
        gl_Position = gl_in[k].gl_Position;
        eye_normal = own_normal[k];
        albedo = own_colour[k].rgb;
        masked = 1.0 - own_colour[k].a;
        uv = texelFetch(places, spot(3 * triangle + k), 0).rg;
#if NORMAL
        vec4 way = texelFetch(along, spot(3 * triangle + k), 0);
        tangent = vec4(eye_from_part * way.xyz, way.w);
#else
        tangent = vec4(0.0);
#endif
        tint = own;
        EmitVertex();
    }
    EndPrimitive();
}
