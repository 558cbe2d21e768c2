package ferry;
import io.micronaut.http.annotation.*;
@Controller("/") public class Home { @Get public String index() { return "micro\n"; } }
