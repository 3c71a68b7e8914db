"""Settings, read in one typed place from the environment; a wrong one is a system check with an id and a hint."""

import hashlib
from pathlib import Path

import structlog
from csp.constants import NONE, SELF

from fenvik.web.environment import Told

BASE = Path(__file__).resolve().parent

_told = Told.read()
POOL_SIZE = int(_told.pool_size)
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        **_told.database.named,
        # Without the pool every request opens a connection.
        "OPTIONS": _told.database.options
        # What is asked the third time on a connection is planned no more.
        | {"server_side_binding": True, "prepare_threshold": 2}
        | {"pool": {"min_size": 2, "max_size": POOL_SIZE, "timeout": _told.pool_patience_s}},
        "TEST": {"NAME": "test_fenvik"},
    }
}

SECRET_KEY = _told.secret
DEBUG = False
ALLOWED_HOSTS = _told.hosts
CSRF_TRUSTED_ORIGINS = _told.origins

# Behind TLS everything is strict; the demo speaks plain HTTP on loopback.
TLS = _told.tls
SECURE_SSL_REDIRECT = TLS
SECURE_HSTS_SECONDS = 31_536_000 if TLS else 0
SECURE_HSTS_INCLUDE_SUBDOMAINS = TLS
SECURE_HSTS_PRELOAD = TLS
# Cookies know no ports: under one name, two applications of one machine sign a person out of each other.
SESSION_COOKIE_NAME = f"{'__Host-' if TLS else ''}fenvik-{hashlib.sha256(SECRET_KEY.encode()).hexdigest()[:8]}"
SESSION_COOKIE_SECURE = TLS
CSRF_COOKIE_SECURE = TLS
CSRF_COOKIE_HTTPONLY = True
CSRF_FAILURE_VIEW = "fenvik.web.kit.stale.stale"
SESSION_COOKIE_AGE = 60 * 60 * 24 * 14
# Addresses or networks of reverse proxies: what these say of the client's address and of TLS is believed, and nobody else.
PROXIES = _told.proxies
X_FRAME_OPTIONS = "DENY"
SECURE_REFERRER_POLICY = "same-origin"

CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "font-src": [SELF],
        "img-src": [SELF, "data:"],
        "connect-src": [SELF],
        "form-action": [SELF],
        "frame-ancestors": [NONE],
        "base-uri": [NONE],
        "manifest-src": [SELF],
    }
}

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "axes",
    "csp",
    "django_otp",
    "django_otp.plugins.otp_static",
    "django_otp.plugins.otp_totp",
    "procrastinate.contrib.django",
    "fenvik.web.people",
    "fenvik.web.clients",
    "fenvik.web.controls",
    "fenvik.web.devices",
    "fenvik.web.visits",
    "fenvik.web.passes",
    "fenvik.web.results",
    "fenvik.web.adjusting",
    "fenvik.web.handovers",
    "fenvik.web.groundwork",
    "fenvik.web.whites",
    "fenvik.web.corrections",
    "fenvik.web.patterns",
    "fenvik.web.kit",
    "fenvik.web.stops",
    "fenvik.web.demo",
]
MIDDLEWARE = [
    "fenvik.web.kit.requests.RequestMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "fenvik.web.kit.stale.SignedInMiddleware",
    "fenvik.web.people.zones.ZoneMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "fenvik.web.kit.nonsense.NonsenseMiddleware",
    "fenvik.web.kit.once.OnceMiddleware",
    "axes.middleware.AxesMiddleware",
]
ROOT_URLCONF = "fenvik.web.urls"
ASGI_APPLICATION = "fenvik.web.asgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [BASE / "templates", BASE / "stops" / "templates", *sorted((BASE / "stops").glob("*/templates"))],
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
            ],
            "builtins": ["fenvik.web.kit.templatetags.fenvik", "fenvik.web.stops.templatetags.acts"],
            "loaders": [
                (
                    "django.template.loaders.cached.Loader",
                    ["django.template.loaders.filesystem.Loader"],
                )
            ],
        },
    }
]
STATIC_URL = "/static/"
STATIC_FOLDER = BASE / "static"

AUTH_USER_MODEL = "people.User"
AUTHENTICATION_BACKENDS = [
    "axes.backends.AxesStandaloneBackend",
    "django.contrib.auth.backends.ModelBackend",
]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.NumericPasswordValidator"},
]
LOGIN_URL = "sign-in"
LOGIN_REDIRECT_URL = "visits"
LOGOUT_REDIRECT_URL = "sign-in"
AXES_FAILURE_LIMIT = 8
AXES_COOLOFF_TIME = 0.25  # hours
AXES_HANDLER = "fenvik.web.people.tries.Tries"  # by name and address together, by address, by name
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_CLIENT_IP_CALLABLE = "fenvik.web.people.tries.address_of"
AXES_SENSITIVE_PARAMETERS = ["username", "password"]
OTP_TOTP_ISSUER = "Fenvik"
AXES_LOCKOUT_TEMPLATE = "people/locked.html"
AXES_VERBOSE = False
AXES_RESET_ON_SUCCESS = True

DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = _told.time_zone
LANGUAGE_CODE = "en-gb"
USE_I18N = False
DATA_UPLOAD_MAX_NUMBER_FIELDS = 6000  # a menu map of 400 controls is one form
DATA_UPLOAD_MAX_MEMORY_SIZE = 4 * 1024 * 1024
FORM_RENDERER = "django.forms.renderers.DjangoTemplates"

# Seconds beyond a meter's own expectation before a read counts as hung.
LINK_SLACK_S = _told.link_slack_s
# A device that failed is tried again for so long before the pass waits for the person.
DEVICE_PATIENCE_S = _told.device_patience_s
# A person who shows patches or types values is waited for so long.
KEYED_PATIENCE_S = _told.keyed_patience_s
# A worker itself waits so long for an answer before it lets go of the pass until there is one.
KEYED_LINGER_S = _told.keyed_linger_s
# How often white is read while a display warms up.
WARM_UP_INTERVAL_S = _told.warm_up_interval_s
# The address under which other machines of the house reach Fenvik, shown where one is to be typed there.
PUBLIC_ADDRESS = _told.address
# The address of the stand-ins' pages, shown as a help where a display is a stand-in; empty in earnest.
STANDIN_PAGES = _told.standin_pages
# Whoever asks for the metrics with this in its Authorization header gets them; without one, this machine alone.
METRICS_TOKEN = _told.metrics_token
LOG_LEVEL = _told.log_level

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {
        "json": {
            "()": structlog.stdlib.ProcessorFormatter,
            "processors": [
                structlog.stdlib.ProcessorFormatter.remove_processors_meta,
                structlog.processors.format_exc_info,
                structlog.processors.JSONRenderer(),
            ],
            "foreign_pre_chain": [
                structlog.stdlib.add_log_level,
                structlog.stdlib.add_logger_name,
                structlog.processors.TimeStamper(fmt="iso", utc=True),
            ],
        }
    },
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "json"}},
    "root": {"handlers": ["console"], "level": LOG_LEVEL},
    "loggers": {"procrastinate": {"level": "WARNING"}, "axes": {"level": "WARNING"}},
}
structlog.configure(
    processors=[
        structlog.contextvars.merge_contextvars,
        structlog.stdlib.add_log_level,
        structlog.stdlib.add_logger_name,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
        structlog.processors.StackInfoRenderer(),
        structlog.stdlib.ProcessorFormatter.wrap_for_formatter,
    ],
    logger_factory=structlog.stdlib.LoggerFactory(),
    cache_logger_on_first_use=True,
)
