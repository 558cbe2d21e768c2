// Buoy says what the buoy at the harbour's mouth measures.
package main

import (
	"encoding/json"
	"log"
	"net/http"
	"os"
)

func main() {
	port := os.Getenv("PORT")
	if port == "" {
		port = "8080"
	}
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		json.NewEncoder(w).Encode(map[string]float64{"wave height in m": 0.8, "water in degrees": 9.5})
	})
	log.Printf("buoy listens on %s", port)
	log.Fatal(http.ListenAndServe(":"+port, nil))
}
