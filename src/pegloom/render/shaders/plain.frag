#version 330 core
uniform vec4 tint;
out vec4 colour;
void main() { colour = tint; }
