package check

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// handedOn lists the variables that builds need: paths of programs, libraries, caches and temporary files, language
// and time zone, and compilers. A final * matches any suffix.
var handedOn = strings.Fields(`PATH HOME USER LOGNAME SHELL TMPDIR TMP TEMP TERM LANG LANGUAGE LC_* TZ
	XDG_CACHE_HOME XDG_CONFIG_HOME XDG_DATA_HOME XDG_STATE_HOME SOURCE_DATE_EPOCH SSL_CERT_FILE SSL_CERT_DIR
	http_proxy https_proxy no_proxy HTTP_PROXY HTTPS_PROXY NO_PROXY all_proxy ALL_PROXY
	CC CXX CPP LD AR AS NM RANLIB STRIP CFLAGS CXXFLAGS CPPFLAGS LDFLAGS MAKEFLAGS LD_LIBRARY_PATH LIBRARY_PATH CPATH
	C_INCLUDE_PATH CPLUS_INCLUDE_PATH DYLD_LIBRARY_PATH PKG_CONFIG PKG_CONFIG_PATH CMAKE_PREFIX_PATH CMAKE_GENERATOR
	CCACHE_DIR SDKROOT DEVELOPER_DIR MACOSX_DEPLOYMENT_TARGET
	GOPATH GOROOT GOBIN GOCACHE GOMODCACHE GOTMPDIR GOENV GOFLAGS GOOS GOARCH GOAMD64 GOARM GOARM64 GOEXPERIMENT
	GOTOOLCHAIN GOWORK GO111MODULE GOPROXY GOSUMDB GONOSUMDB GONOPROXY GOPRIVATE GOVCS GOMAXPROCS GOGC GODEBUG
	GOMEMLIMIT CGO_*
	JAVA_HOME JDK_HOME MAVEN_HOME M2_HOME GRADLE_HOME GRADLE_USER_HOME ANDROID_HOME ANDROID_SDK_ROOT KOTLIN_HOME
	CARGO_HOME CARGO_TARGET_DIR RUSTUP_HOME RUSTUP_TOOLCHAIN RUSTFLAGS RUSTC_WRAPPER
	NODE_PATH NODE_ENV NODE_OPTIONS NODE_EXTRA_CA_CERTS NVM_DIR NVM_BIN VOLTA_HOME PNPM_HOME COREPACK_HOME
	PYTHONPATH PYTHONHOME PYTHONHASHSEED PYTHONDONTWRITEBYTECODE VIRTUAL_ENV PYENV_ROOT PYENV_VERSION CONDA_PREFIX
	PIP_CACHE_DIR GEM_HOME GEM_PATH RUBYLIB RUBYOPT RBENV_ROOT BUNDLE_PATH PERL5LIB LUA_PATH LUA_CPATH
	PHP_INI_SCAN_DIR COMPOSER_HOME DOTNET_ROOT DOTNET_CLI_HOME NUGET_PACKAGES NIX_PATH NIX_SSL_CERT_FILE NIX_STORE
	NIX_PROFILES GUIX_PROFILE HOMEBREW_PREFIX OPAMROOT OPAM_SWITCH_PREFIX STACK_ROOT ERL_LIBS JULIA_DEPOT_PATH`)

// withPassword matches a URL with a password or a token.
var withPassword = rx.New(`://[^/\s@]*:?[^/\s@]*@`)

// Environment returns the environment of a check: from given it takes what builds need (handedOn) and the names in
// keep, and it marks that there is no terminal. left has the names that it did not take.
func Environment(given []string, keep []string) (out, left []string) {
	out = []string{"CI=true"}
	for _, kv := range given {
		name, value, _ := strings.Cut(kv, "=")
		switch {
		case name == "CI":
		case slices.Contains(keep, name), isHandedOn(name) && !withPassword.MatchString(value):
			out = append(out, kv)
		default:
			left = append(left, name)
		}
	}
	return out, left
}

func isHandedOn(name string) bool {
	return slices.ContainsFunc(handedOn, func(h string) bool {
		begin, any := strings.CutSuffix(h, "*")
		return h == name || any && strings.HasPrefix(name, begin)
	})
}
