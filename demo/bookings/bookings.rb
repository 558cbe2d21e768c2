# Which sailings can still be booked, as JSON over HTTP.
require "bundler/setup"
require "berths"
require "json"
require "socket"

port = Integer(ENV.fetch("PORT", "8080"))
server = TCPServer.new("0.0.0.0", port)
trap("TERM") { exit }
puts "bookings listens on #{port}"
$stdout.flush

loop do
  client = server.accept
  path = client.gets.to_s.split[1]
  client.gets until $_.to_s.strip.empty?
  status, body = path == "/" ? ["200 OK", JSON.generate(Berths.left)] : ["404 Not Found", "{}"]
  client.write "HTTP/1.1 #{status}\r\nContent-Type: application/json\r\nContent-Length: #{body.bytesize}\r\nConnection: close\r\n\r\n#{body}"
  client.close
end
