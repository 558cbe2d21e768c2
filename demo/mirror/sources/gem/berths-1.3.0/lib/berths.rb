# How many berths each sailing has left.
module Berths
  SAILINGS = { "06:40" => 12, "09:15" => 0, "17:50" => 31 }.freeze

  def self.left
    SAILINGS.map { |time, berths| { sailing: time, berths: berths } }
  end
end
