// One triangle that covers the picture.
void main() {
    vec2 corner = vec2((gl_VertexID << 1) & 2, gl_VertexID & 2);
#if FAR
    // Behind all that there is.
    gl_Position = vec4(corner * 2.0 - 1.0, 1.0, 1.0);
#else
    gl_Position = vec4(corner * 2.0 - 1.0, 0.0, 1.0);
#endif
}
