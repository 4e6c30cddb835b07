// The clay's depths once more, for what lies over it and hides itself.
uniform sampler2D depths;

void main() {
    gl_FragDepth = texelFetch(depths, ivec2(gl_FragCoord.xy), 0).r;
}
