#version 330 core
in vec4 tint;
in float across;
in float half_width;
uniform float dim;
out vec4 colour;
void main() {
    float edge = 1.0 - smoothstep(half_width - 0.5, half_width + 0.6, abs(across));
    colour = vec4(tint.rgb, tint.a * edge * dim);
}
