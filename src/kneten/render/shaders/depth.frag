// CLEAR: what lets more light through than it holds back casts no shadow.
#if CLEAR
in float hides;
void main() { if (hides < 0.5) discard; }
#else
void main() {}
#endif
