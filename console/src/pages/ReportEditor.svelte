<p>later</p>
