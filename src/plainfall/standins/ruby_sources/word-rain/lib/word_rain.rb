# frozen_string_literal: true

# Amounts of rain in words.
module WordRain
  WORDS = [[0, 'dry'], [2, 'a few drops'], [10, 'rain'], [25, 'heavy rain']].freeze

  def self.words(millimetres)
    WORDS.reverse.find { |least, _| millimetres.to_f >= least }.last
  end
end
