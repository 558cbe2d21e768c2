package ferry;
import io.helidon.webserver.WebServer;
import io.helidon.config.Config;
public class Main { public static void main(String[] args) { WebServer.builder().config(Config.create().get("server")).routing(r -> r.get("/", (q, s) -> s.send("heli\n"))).build().start(); } }
