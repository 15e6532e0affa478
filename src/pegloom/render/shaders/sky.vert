#version 330 core
in vec2 in_corner;
out vec2 place;
void main() {
    place = in_corner;
    gl_Position = vec4(in_corner, 0.9999, 1.0);
}
