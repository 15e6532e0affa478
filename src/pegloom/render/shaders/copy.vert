#version 330 core
in vec2 in_corner;
out vec2 uv;
void main() {
    uv = in_corner * 0.5 + 0.5;
    gl_Position = vec4(in_corner, 0.0, 1.0);
}
