package kestrel.desk;

import com.sun.net.httpserver.HttpServer;
import java.io.IOException;
import java.net.InetSocketAddress;
import java.nio.charset.StandardCharsets;
import java.util.List;
import java.util.stream.Collectors;

/** What the ferries carry today besides passengers. */
public class CargoDesk {
    private static final List<Crate> CRATES = List.of(
            new Crate("Outer Light", "lamp oil", 40),
            new Crate("Gull Rock", "mail", 12),
            new Crate("Heron Quay", "oysters", 85));

    public static void main(String[] arguments) throws IOException {
        int port = Integer.parseInt(System.getenv().getOrDefault("PORT", "8080"));
        HttpServer server = HttpServer.create(new InetSocketAddress(port), 0);
        server.createContext("/", exchange -> {
            byte[] text = list().getBytes(StandardCharsets.UTF_8);
            exchange.sendResponseHeaders(200, text.length);
            exchange.getResponseBody().write(text);
            exchange.close();
        });
        server.start();
        System.out.println("the cargo desk is open");
    }

    private static String list() {
        return CRATES.stream().map(Crate::line).collect(Collectors.joining("\n", "", "\n"));
    }

    /** Something for a pier, with its weight in kilograms. */
    record Crate(String pier, String content, int weight) {
        String line() {
            return "%-12s %4d kg  %s".formatted(pier, weight, content);
        }
    }
}
