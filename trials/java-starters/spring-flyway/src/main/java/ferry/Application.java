package ferry;
import org.springframework.boot.SpringApplication;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.web.bind.annotation.*;
@SpringBootApplication
@RestController
public class Application {
  @GetMapping("/") public String home() { return "the ferry sails\n"; }
  public static void main(String[] args) { SpringApplication.run(Application.class, args); }
}
