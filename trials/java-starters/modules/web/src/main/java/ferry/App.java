package ferry;
import org.springframework.boot.*; import org.springframework.boot.autoconfigure.*; import org.springframework.web.bind.annotation.*;
@SpringBootApplication @RestController public class App { @GetMapping("/") public String h() { return Core.say(); } public static void main(String[] a) { SpringApplication.run(App.class, a); } }
