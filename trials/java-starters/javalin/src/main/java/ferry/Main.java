package ferry;
import io.javalin.Javalin;
public class Main {
  public static void main(String[] args) {
    Javalin.create().get("/", c -> c.result("pier\n")).start(7070);
  }
}
