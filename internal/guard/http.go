package guard

import "net/http"

// HTTP answers 500 where a handler panics, logged and counted like every other panic; a connection whose answer has begun is closed.
// http.ErrAbortHandler is no fault, and passes.
func HTTP(name string, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		aborted := false
		returned := Run(name, func() {
			defer func() {
				switch p := recover(); p {
				case nil:
				case http.ErrAbortHandler:
					aborted = true
				default:
					panic(p)
				}
			}()
			h.ServeHTTP(w, r)
		})
		if aborted {
			panic(http.ErrAbortHandler)
		}
		if !returned {
			http.Error(w, "this failed by a fault of the program, which is in the log of the service", http.StatusInternalServerError)
		}
	})
}
