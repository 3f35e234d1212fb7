"""What a page of ours may run, show and connect to."""

POLICY = {
    "default-src": "'none'",
    "script-src": "'self'",
    # Radix places its popovers with style attributes and one style element.
    "style-src": "'self' 'unsafe-inline'",
    "img-src": "'self' blob: data:",
    "media-src": "'self'",
    "font-src": "'self'",
    "connect-src": "'self'",
    "worker-src": "'self' blob:",
    "frame-ancestors": "'none'",
    "base-uri": "'none'",
    "form-action": "'self'",
}
DEVELOPMENT = {"script-src": "'self' http://localhost:5173 'unsafe-inline'", "connect-src": "'self' ws: http:"}


def policy(*, debug: bool) -> str:
    """The Content-Security-Policy of every answer."""
    return "; ".join(f"{name} {value}" for name, value in (POLICY | (DEVELOPMENT if debug else {})).items())
